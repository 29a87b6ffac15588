"""The web side: reads a form, applies a change, asks for results, renders. No rule of the job lives here."""
