"""Simulated devices that ship with Welvo: real programs that speak the real protocols on 127.0.0.x.

May import everything below `standins`.
"""
