"""Restless Tide: the desk at which a mobile release manager works."""

__version__ = "0.1.0"
