"""What keep.toml says, one module per group of its tables."""
