"""Simulated devices: machines with physics, and cameras that draw what a machine has laid down.

They share no code with what they test.
"""
