"""The second copy of a keep: where it lies, how it is sealed, bringing it back."""
