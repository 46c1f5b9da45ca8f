"""What is done on a schedule and told to others: when a job is due, what became of the state, notifications, and what is kept of it."""
