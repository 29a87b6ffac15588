"""What is painted on a part, and the channels in it."""
