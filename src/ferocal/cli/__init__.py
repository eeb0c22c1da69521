"""Commands, one module each: parse, call, present."""
