"""The rig document: frozen values, how they are edited, counted and said.

Imports nothing else of Welvo.
"""
