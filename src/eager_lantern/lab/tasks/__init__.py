"""What a host of a lab does when it is told to."""
