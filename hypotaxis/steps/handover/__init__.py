"""Handover: everything another host needs."""
