"""Text formats as documents: bytes in, records with spans, edits out."""
