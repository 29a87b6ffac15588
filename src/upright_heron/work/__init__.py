"""Long computations: what a sheet asks for, worker processes, progress, cancelling, remembering."""
