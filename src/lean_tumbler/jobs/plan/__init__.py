"""What each cohort gets, before anything is written."""
