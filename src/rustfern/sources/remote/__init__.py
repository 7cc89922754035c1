"""Folders on other machines, and with services: listed and read over the network, read only."""
