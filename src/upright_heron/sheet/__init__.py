"""The job sheet: one immutable document a job, and the changes that make a new one from it. No I/O."""
