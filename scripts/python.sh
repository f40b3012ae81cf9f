#!/bin/sh
# Print the Python to work with: Debian's own 3.11 where it can make a virtual environment, since its build is
# optimised and many a compiled one is not; otherwise the python3 of the path.
set -eu

own=/usr/bin/python3.11
if "$own" -c 'import venv, ensurepip' 2>/dev/null; then echo "$own"; else echo python3; fi
