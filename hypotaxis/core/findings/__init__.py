"""Rules over the plan, a rule a function: what was found, why it matters, what to do."""
