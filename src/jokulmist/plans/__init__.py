"""What a run is asked for: its plan, what it is made from, when it stops, how far it is."""
