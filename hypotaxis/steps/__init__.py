"""The screens, in the order of the work; steps do not import each other."""
