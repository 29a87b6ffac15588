"""What hangs in a stance: overhangs, islands, lowest points, cups."""
