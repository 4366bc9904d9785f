"""The Django project: settings, addresses, base templates, start-up."""
