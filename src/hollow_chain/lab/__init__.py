"""The stand-in host: a folder that is a host of the control-manager family, run by the rules of ``boot/``."""
