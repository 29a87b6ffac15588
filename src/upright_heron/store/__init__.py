"""What is kept: jobs, their steps, blobs and remembered results, in SQLite through SQLAlchemy."""
