"""What a keep remembers of its server folder: the journal, snapshots, dumps within them, releases."""
