"""Put back what a bulk step replaced."""
