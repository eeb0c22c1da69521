"""The study file and its objects; imports no other layer."""
