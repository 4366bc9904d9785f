"""The rules and the computation: no Django, no interface, no global state."""
