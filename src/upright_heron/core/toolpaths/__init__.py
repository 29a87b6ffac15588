"""What a print takes."""
