"""The Drift Gallery: the opening night of a made-up aquarium's jellyfish hall, with a fault of every kind.

May import everything but `app`.
"""
