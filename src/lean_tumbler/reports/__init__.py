"""Results as text for a person and as JSON for programs."""
