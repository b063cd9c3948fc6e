"""Results for people (terminal text) and for programs (JSON): two views of the same values."""
