"""The board on the quay: one page with today's tides, which loads itself again
whenever a file of it changes."""
import base64
import hashlib
import html
import importlib
import os
import secrets
import struct
import threading
import time
import urllib.parse
import urllib.request
from http.cookies import SimpleCookie
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import gate
import heights
import tides

PORT = int(os.environ.get("TIDE_PORT", "8000"))
PARTS = ("page.html", "tides.py")
signed_in = {}  # who, by what their browser keeps
begun = set()  # sign-ins that wait for their call-back


def stamps():
    return tuple(os.stat(part).st_mtime_ns for part in PARTS if os.path.exists(part))


def page(who):
    importlib.reload(tides)
    station = os.environ.get("TIDE_STATION", "Ytre Skjer")
    rows = "".join(f"<tr><td>{h:02d}:00<td>{cm:+d} cm" for h, cm in tides.table(station))
    with open("page.html", encoding="utf-8") as f:
        text = f.read()
    hello = f"Signed in as {html.escape(who)}" if who else '<a href="/sign-in">Sign in</a>'
    return text.replace("{station}", html.escape(station)).replace("{rows}", rows).replace("{hello}", hello)


class Board(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def do_GET(self):
        path, _, query = self.path.partition("?")
        asked = urllib.parse.parse_qs(query)
        if path == "/changes":
            self.changes()
        elif path == "/sign-in":
            mark = secrets.token_urlsafe(16)
            begun.add(mark)
            self.lead(f"{gate.address(self.headers)}/?" + urllib.parse.urlencode({"back": self.here() + "/signed-in", "mark": mark}))
        elif path == "/signed-in":
            self.signed_in(asked.get("mark", [""])[0], asked.get("code", [""])[0])
        elif path == "/":
            self.say(200, page(signed_in.get(self.kept())))
        else:
            self.say(404, "There is no such page.")

    def here(self):
        """Our own address, as whoever asks sees it."""
        return f"{self.headers.get('X-Forwarded-Proto', 'http')}://{self.headers.get('X-Forwarded-Host', self.headers['Host'])}"

    def kept(self):
        kept = SimpleCookie(self.headers.get("Cookie", ""))
        return kept["board"].value if "board" in kept else ""

    def signed_in(self, mark, code):
        """The call-back of a sign-in: the code is exchanged for who it is."""
        if mark not in begun:
            return self.say(400, "This sign-in was not begun here.")
        begun.discard(mark)
        who = gate.exchange(code)
        if not who:
            return self.say(400, "The gate knows nothing of this sign-in.")
        key = secrets.token_urlsafe(16)
        signed_in[key] = who
        self.lead("/", {"Set-Cookie": f"board={key}; Path=/; HttpOnly; SameSite=Lax"})

    def changes(self):
        """Says over a WebSocket (RFC 6455) when a file has changed."""
        key = self.headers.get("Sec-WebSocket-Key")
        if not key:
            return self.say(426, "This address speaks WebSocket.")
        accept = base64.b64encode(hashlib.sha1((key + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
        self.send_response(101)
        self.send_header("Upgrade", "websocket")
        self.send_header("Connection", "Upgrade")
        self.send_header("Sec-WebSocket-Accept", accept)
        self.end_headers()
        self.close_connection = True
        seen, beat = stamps(), time.monotonic()
        try:
            while True:
                time.sleep(0.2)
                now = stamps()
                if now != seen:
                    seen = now
                    self.wfile.write(struct.pack("BB", 0x81, 7) + b"changed")
                elif time.monotonic() - beat > 20:
                    beat = time.monotonic()
                    self.wfile.write(struct.pack("BB", 0x89, 0))  # ping: who has gone is noticed
        except OSError:
            pass

    def lead(self, to, more=None):
        self.send_response(302)
        for name, value in {"Location": to, "Content-Length": "0", **(more or {})}.items():
            self.send_header(name, value)
        self.end_headers()

    def say(self, code, text):
        body = text.encode()
        self.send_response(code)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


if __name__ == "__main__":
    ThreadingHTTPServer.daemon_threads = True
    for serve in (gate.serve, heights.serve):
        threading.Thread(target=serve, daemon=True).start()
    print(f"the board is on port {PORT}, the heights on {heights.PORT}, the gate on {gate.PORT}", flush=True)
    ThreadingHTTPServer(("", PORT), Board).serve_forever()
