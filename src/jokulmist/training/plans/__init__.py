"""What is asked of a run: plans, the classes that they name, when a run has done enough."""
