"""The tests: core rules by value, the pages, the real interface, and checks against what others published."""
