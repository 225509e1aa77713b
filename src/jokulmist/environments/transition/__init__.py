"""One transition of an environment, in its order; and episodes stepped by hand."""
