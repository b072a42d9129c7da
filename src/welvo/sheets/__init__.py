"""What is printed and handed over: lists of a rig as rows, and sheets made of them, as PDF and pictures.

May import everything below the command line but `live` and `standins`; knows no Qt, no sockets and no clock.
"""
