"""roundel: a router without a command line, spoken to by NETCONF alone."""
