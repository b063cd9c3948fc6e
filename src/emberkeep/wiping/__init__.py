"""What a wipe clears and leaves, and what would be forgotten with it. Writes nothing."""
