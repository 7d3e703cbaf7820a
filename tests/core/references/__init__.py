"""First sheets and what they rendered to, kept so that every later version renders them alike."""
