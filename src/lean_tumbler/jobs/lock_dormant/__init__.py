"""Close accounts that never came back."""
