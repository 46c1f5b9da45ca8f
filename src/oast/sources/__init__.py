"""Inventories that are kept elsewhere: what they say, fetched, mapped, and written into the estate."""
