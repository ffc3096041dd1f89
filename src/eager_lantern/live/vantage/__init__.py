"""Where a visit is made from: this machine, or another that opens sockets for it."""
