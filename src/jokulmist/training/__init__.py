"""The loop that joins an environment's copies with a learning method; runs, policies, evaluation."""
