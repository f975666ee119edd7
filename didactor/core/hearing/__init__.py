"""Sound to what was played, and what was played laid over what is expected."""
