"""Commands, one module each: parse, call an answer or what writes, render.

May import every layer, and is the only one that imports Click.
"""
