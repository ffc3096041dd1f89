"""Small values: sets of ports and addresses, quantities, places in a site file."""
