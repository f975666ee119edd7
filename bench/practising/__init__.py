"""The parts of bench/practice, one a module."""
