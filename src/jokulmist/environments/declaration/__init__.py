"""What a researcher declares: the class, its state, parts, actions and channels, and the description read from it."""
