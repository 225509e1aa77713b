"""What can be observed and done: channels, actions, and which choices are allowed."""
