"""Hollow Chain: why will this service not start?

Data flows one way: facts -> chain -> causes -> verdict -> mend. What is shown hangs on the outside
(:mod:`hollow_chain.show`, :mod:`hollow_chain.cli`).
"""

__version__ = "0.1.0"
