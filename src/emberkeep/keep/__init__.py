"""The keep: its layout, keep.toml read and edited, secrets."""
