"""What a real device or server says of itself, taken into a site."""
