"""What is there: this host, its network and its outside, asked without changing anything."""
