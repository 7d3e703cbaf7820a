"""What each mic hears begin: when, how loud, how steep, where first."""
