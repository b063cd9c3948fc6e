"""Which snapshots stay, and how the store grows. Reads no clock and writes nothing."""
