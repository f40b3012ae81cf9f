"""Simulated outside services: stores, a mail sink, a maker of demo packages. They judge by their own code."""
