"""What must be held, and why."""
