"""How many data ports a service needs."""
