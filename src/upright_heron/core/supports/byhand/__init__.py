"""Single supports changed by hand."""
