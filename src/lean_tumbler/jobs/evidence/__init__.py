"""`evidence`: takes up what written checks have counted."""
