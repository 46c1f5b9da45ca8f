"""Oast: network configuration from intent, compared in canonical form, delivered with a way back."""

__version__ = "0.1.0"
