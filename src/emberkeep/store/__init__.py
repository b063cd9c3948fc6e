"""Snapshots: blocks in packs, an index that is only a cache, manifests, verify. See docs/store-format.md."""
