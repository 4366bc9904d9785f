"""The stand view: one thing at a time, legible from three metres, for whoever opens it."""
