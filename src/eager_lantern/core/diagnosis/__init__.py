"""From observations to causes, their faults, and the next best test."""
