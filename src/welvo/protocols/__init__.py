"""Codecs of the open standards, without any input or output: values into bytes, bytes into values or a WireError.

Imports nothing of Welvo but `rig.counting`.
"""
