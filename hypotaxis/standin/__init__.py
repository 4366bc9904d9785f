"""The simulated studio behind `core.studio`: everything outside the application, on any machine."""
