"""The gate: a stand-in for the company's sign-in, on a port of its own. It asks
who somebody is, and sends them back with a code that is exchanged once."""
import html
import re
import secrets
import urllib.parse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

PORT = 8002
codes = {}


def address(headers):
    """The gate's own address, beside the one that a request came to."""
    host = headers.get("X-Forwarded-Host", headers["Host"])
    proto = headers.get("X-Forwarded-Proto", "http")
    beside = re.sub(r"^([a-z0-9]+)-\d+\.", rf"\1-{PORT}.", host)
    return f"{proto}://" + (beside if beside != host else f"{host.rsplit(':', 1)[0]}:{PORT}")


def exchange(code):
    """Who a code stands for; it is used once."""
    return codes.pop(code, None)


class Gate(BaseHTTPRequestHandler):
    def log_message(self, *_):
        pass

    def do_GET(self):
        asked = urllib.parse.parse_qs(self.path.partition("?")[2])
        back, mark, who = (asked.get(k, [""])[0] for k in ("back", "mark", "who"))
        self.send_response(302 if who and back else 200)
        if who and back:
            code = secrets.token_urlsafe(16)
            codes[code] = who
            self.send_header("Location", back + "?" + urllib.parse.urlencode({"mark": mark, "code": code}))
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.end_headers()
        if not (who and back):
            self.wfile.write(f"""<!doctype html><title>The gate</title><h1>Who are you?</h1>
<form><input type="hidden" name="back" value="{html.escape(back)}"><input type="hidden" name="mark" value="{html.escape(mark)}">
<input name="who" aria-label="Your name" autofocus><button>Sign in</button></form>""".encode())


def serve():
    ThreadingHTTPServer(("", PORT), Gate).serve_forever()
