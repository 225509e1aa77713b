"""Many copies of an environment stepping side by side: plain (NumPy) and compiled (JAX)."""
