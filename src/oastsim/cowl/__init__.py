"""cowl: a switch and router that is told paths, and takes them as a whole from a candidate."""
