"""Machines that are not there: simulated printers that speak the protocol of docs/machine-protocol.md."""
