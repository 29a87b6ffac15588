"""What holds a part on the plate."""
