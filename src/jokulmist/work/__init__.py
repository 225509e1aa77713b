"""Work in the background: jobs that wait in a folder, and processes that take them."""
