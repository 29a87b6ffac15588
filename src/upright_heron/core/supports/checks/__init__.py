"""What is told of finished supports: held, in the way, got out."""
