"""Runs: ordered steps that change a server folder, resumable and undoable."""
