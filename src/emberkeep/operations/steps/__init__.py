"""Steps that several kinds of run share."""
