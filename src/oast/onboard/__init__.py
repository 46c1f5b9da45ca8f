"""New devices that find their way: what they are given, how they prove who they are, and what became of each (RFC 8572, RFC 8366)."""
