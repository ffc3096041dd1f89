"""Evidence from outside: logs of clients and servers, captures, sockets, tracked connections."""
