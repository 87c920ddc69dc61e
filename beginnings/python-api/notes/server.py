"""Serves the notes. They are kept in memory: give the release a resource of the kind postgres to keep them longer."""

import json
import os
import signal
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import urlsplit

from notes.answer import answer

MOST = 16 * 1024
notes = []
lock = threading.Lock()


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def handle_any(self):
        length = int(self.headers.get("content-length") or 0)
        try:
            body = json.loads(self.rfile.read(length)) if 0 < length <= MOST else None
        except ValueError:
            body = None
        with lock:
            status, told = answer(self.command, urlsplit(self.path).path, body, notes)
            text = (json.dumps(told) + "\n").encode()
        self.send_response(status)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(text)))
        if length > MOST:
            self.close_connection = True
        self.end_headers()
        self.wfile.write(text)

    do_GET = do_POST = do_PUT = do_DELETE = handle_any

    def log_message(self, *_):
        pass


if __name__ == "__main__":
    server = ThreadingHTTPServer(("", int(os.environ["PORT"])), Handler)
    # Told to end: what is asked already is answered.
    signal.signal(signal.SIGTERM, lambda *_: threading.Thread(target=server.shutdown).start())
    print("ready", flush=True)
    server.serve_forever()
