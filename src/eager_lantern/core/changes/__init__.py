"""Two states of a site: what differs, and in which order to get from one to the other."""
