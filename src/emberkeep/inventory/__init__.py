"""What stands in a server folder by what keep.toml says of it: roles, tiles, versions, extensions."""
