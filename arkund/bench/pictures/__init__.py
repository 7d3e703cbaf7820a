"""What each station's picture shows, as plain data for the browser to draw."""
