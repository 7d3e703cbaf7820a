"""Edit and takes: what is proposed on timing."""
