"""The trial: files that bite, kills, full disks and foreign databases, by a careful enemy of the running program.

``tools/trial.py`` (``make trial``) runs all of it and prints a table; ``test_trial.py`` a short form in the suite.
"""
