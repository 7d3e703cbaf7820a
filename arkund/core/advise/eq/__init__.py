"""EQ: what a drum has too much and too little of."""
