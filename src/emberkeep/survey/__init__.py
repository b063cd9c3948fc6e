"""How a server stands: versions, hand edits, drift, landmarks."""
