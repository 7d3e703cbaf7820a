"""Training the ear: how hard a question is asked, and what is asked of a drum's own sound."""
