"""Every promise of a site tried in a lab."""
