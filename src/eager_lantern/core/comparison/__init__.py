"""Two states of a site: what differs, what that lets through, and how to get from one to the other."""
