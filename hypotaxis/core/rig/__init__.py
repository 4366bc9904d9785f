"""Boxes, sockets and cables as frozen values, and the trips that can be traced through them."""
