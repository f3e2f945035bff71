"""The common part of the services: answer HTTP requests with the configuration. Standard library only."""

import json
import os
import sys
from http.server import BaseHTTPRequestHandler, HTTPServer


def serve(service, settings):
    """Listen on LISTEN_PORT and answer every GET with these settings; a setting that does not exist is null."""
    settings = {**settings, "LOG_LEVEL": os.environ.get("LOG_LEVEL")}

    class Answer(BaseHTTPRequestHandler):
        def do_GET(self):
            body = json.dumps({"service": service, "pid": os.getpid(), "settings": settings}).encode()
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, form, *values):
            if os.environ.get("LOG_LEVEL", "info") == "debug":
                print(service, form % values, file=sys.stderr)

    HTTPServer(("127.0.0.1", int(os.environ["LISTEN_PORT"])), Answer).serve_forever()
