"""Tables of forwards and of filter rules, as people have them."""
