"""One module per text format."""
