"""The board on the quay: one page with today's tides."""
import html
import os
from http.server import BaseHTTPRequestHandler, HTTPServer

import tides


class Board(BaseHTTPRequestHandler):
    def do_GET(self):
        station = os.environ.get("TIDE_STATION", "Ytre Skjer")
        rows = "".join(f"<tr><td>{h:02d}:00<td>{cm:+d} cm" for h, cm in tides.table(station))
        page = f"<!doctype html><title>Tides</title><h1>{html.escape(station)}</h1><table>{rows}</table>"
        self.send_response(200)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.end_headers()
        self.wfile.write(page.encode())


if __name__ == "__main__":
    port = int(os.environ.get("TIDE_PORT", "8000"))
    print(f"the board is on port {port}")
    HTTPServer(("", port), Board).serve_forever()
