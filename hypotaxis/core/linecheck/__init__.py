"""The line check: every line of the desk played in turn, all inputs heard at once, compared with the plan.

It stands on top of the rest of the core, beside findings.
"""
