"""Crashes: stacks read, names brought back by the symbol files of the build, equal ones known as equal."""

from restless_tide.core.crashes.fingerprint import fingerprint, headline
from restless_tide.core.crashes.stack import Crash, Frame, read_stack
from restless_tide.core.crashes.symbols import Symbols, read_symbols, symbolise

__all__ = ["Crash", "Frame", "Symbols", "fingerprint", "headline", "read_stack", "read_symbols", "symbolise"]
