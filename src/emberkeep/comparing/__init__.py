"""Differences: of trees by file, of documents by record, of text by line; and how well defaults fit a live server."""
