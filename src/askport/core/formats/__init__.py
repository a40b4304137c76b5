"""Bytes to values and back, one protocol a module.

Every ``decode_x(data)`` takes any bytes and returns the value or an ``Unreadable`` that says where and why;
it never raises. Every ``encode_x(value)`` is its inverse and strict. Fields carry the names of their standard.
"""
