"""Reading app packages: what a file says it is, read in place and within bounds."""

from restless_tide.core.packages.facts import Facts
from restless_tide.core.packages.inspect import inspect_package, read_icon

__all__ = ["Facts", "inspect_package", "read_icon"]
