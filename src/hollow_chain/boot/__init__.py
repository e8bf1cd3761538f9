"""How each family of service managers starts things, and the simulation of a boot."""
