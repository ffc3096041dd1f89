"""The fewest and cheapest changes of a site that keep all of its promises."""
