"""Asks the roost for its gulls."""
import os
import socket

host, port = os.environ["ROOST"].split(":")
with socket.create_connection((host, int(port)), 5) as roost:
    roost.sendall(b"kittiwake\n")
    print("counted:", roost.makefile().readline().strip())
