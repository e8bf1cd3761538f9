"""Hosts of the control-manager family over the network, by the published remote protocols of their service manager, registry and event
logs ([MS-SCMR], [MS-RRP], [MS-EVEN]) over named pipes ([MS-SMB2]).
"""
