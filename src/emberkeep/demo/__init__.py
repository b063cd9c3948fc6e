"""The sample scenario: the made-up game Skerrylight and the made-up community server Gannet Rock."""
