"""The version, apart from the public face, for modules below it."""

__version__ = "0.1.0"
