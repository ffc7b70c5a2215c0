"""Where stored values are: databases and files behind one small interface."""
