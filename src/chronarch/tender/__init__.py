"""The tender: the process near the machines that talks to them and feeds them their builds."""
