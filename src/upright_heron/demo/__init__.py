"""The demo workshop: Saltmarsh Hide Works, with jobs whose shapes our own code makes."""
