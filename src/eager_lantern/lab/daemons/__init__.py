"""Real daemons, configured from the site."""
