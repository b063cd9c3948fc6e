"""What is kept, what is due, what things come to at this rate. Reads no clock and writes nothing."""
