"""Three-way merging: the vendor's old and new defaults and the admin's files, record by record."""
