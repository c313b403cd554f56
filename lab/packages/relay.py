#!/usr/bin/python3
"""The relay: a small real HTTP service. It keeps a count of messages in a data file and ends only when no request is in flight."""
import json, os, signal, sys, threading, time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

VERSION, FORMAT = "@VERSION@", int("@FORMAT@")
DATA, OUT, CONF = "/var/lib/phalarope/data.json", "/run/phalarope/out", "/etc/phalarope/relay.conf"
lock, in_flight = threading.Lock(), 0


def load():
    with open(DATA) as file:
        data = json.load(file)
    if data["format"] != FORMAT:
        sys.exit(f"data has format {data['format']}, this release reads {FORMAT}")
    return data


def healthy():
    broken = [line.split("=", 1)[1].strip() for line in open(CONF) if line.startswith("broken=")]
    return VERSION not in broken


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        global in_flight
        if self.path == "/version":
            return self.answer(200, {"version": VERSION, "format": FORMAT, "in-flight": in_flight, "messages": load()["messages"]})
        if self.path == "/health":
            ok = healthy() and not os.path.exists(OUT)
            return self.answer(200 if ok else 503, {"healthy": healthy(), "out": os.path.exists(OUT)})
        with lock:
            in_flight += 1
        try:
            time.sleep(0.03)
            with lock:
                data = load()
                data["messages"] += 1
                with open(DATA + ".new", "w") as file:
                    json.dump(data, file)
                os.replace(DATA + ".new", DATA)
            self.answer(200 if healthy() else 500, {"relayed": data["messages"], "version": VERSION})
        finally:
            with lock:
                in_flight -= 1

    def answer(self, status, body):
        text = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)

    def log_message(self, *_):
        pass


load()
server = ThreadingHTTPServer(("0.0.0.0", 8080), Handler)
server.daemon_threads = False


def end(*_):
    threading.Thread(target=server.shutdown).start()


signal.signal(signal.SIGTERM, end)
server.serve_forever()
while in_flight:
    time.sleep(0.01)
os._exit(0)
