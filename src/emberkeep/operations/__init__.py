"""The only writers: what changes a server folder or a keep happens here, each run with a snapshot taken before it."""
