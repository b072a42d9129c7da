"""The Devices station: planned and heard devices, plan beside reported.

May import `widgets` and the core; knows no other station.
"""
