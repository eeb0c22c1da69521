"""What machine this is: its facts, its conditions, and how commands are run on it."""
