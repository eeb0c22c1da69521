"""The order of rounds and visits, and how many rounds a question needs."""
