"""cowl: a switch and router with a path syntax, which applies a whole candidate with a commit."""
