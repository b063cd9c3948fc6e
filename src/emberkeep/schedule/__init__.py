"""When things come round. Reads no clock and writes nothing."""
