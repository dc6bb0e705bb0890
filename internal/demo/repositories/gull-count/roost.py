"""A small store of counts: one line in, one line out."""
import os
import pathlib
import shutil
import socket
import socketserver
import sys

STORE = pathlib.Path("/var/lib/roost/gulls.txt")


class Asked(socketserver.StreamRequestHandler):
    def handle(self):
        for line in self.rfile:
            want = line.decode().strip()
            found = [kept for kept in STORE.read_text().splitlines() if kept.startswith(want)]
            self.wfile.write(("; ".join(found) or "none").encode() + b"\n")


if "--well" in sys.argv:
    socket.create_connection(("127.0.0.1", 7700), 1).close()
else:
    if not STORE.exists():
        shutil.copy("/srv/seed/gulls.txt", STORE)
    print("the roost of", os.environ["ROOST_NAME"], "is open", flush=True)
    socketserver.ThreadingTCPServer(("", 7700), Asked).serve_forever()
