"""Code of a user's own: which files it consists of, reading them apart from other versions, and keeping them with a
run."""
