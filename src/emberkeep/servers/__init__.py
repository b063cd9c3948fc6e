"""What a server folder is: roles, selections, versions, whether it runs, and what adopt infers."""
