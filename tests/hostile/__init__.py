"""What strangers, other users and broken machines do: a module for each, every test with the system's own means."""
