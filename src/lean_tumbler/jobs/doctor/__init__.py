"""What is installed, readable and reachable."""
