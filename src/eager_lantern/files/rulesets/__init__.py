"""Rule sets of the kernel's packet filters, of hosts and of gateways, as rules of a site."""
