#!/usr/bin/env python
"""The command line of a checkout."""

from hypotaxis.__main__ import main

if __name__ == "__main__":
    main()
