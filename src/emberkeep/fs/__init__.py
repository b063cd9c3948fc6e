"""The disk: folders scanned and read as trees, archives as trees, and the one module that writes."""
