"""What leaves: 3MF, STL and the facts of the traveller."""
