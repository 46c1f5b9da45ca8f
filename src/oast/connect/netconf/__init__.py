"""NETCONF (RFC 6241) over SSH (RFC 6242), a module for each concern: framing, messages, operations, what a hello offers, the session."""
