#!/usr/bin/env python3
"""Asks the relay of exactly the hosts that Tide Step declares in service, without any retry, and counts what fails.

usage: prober.py SERVICE KEY RUN HOST=ADDRESS...
A host is out from the moment its declare-out step begins until the run finds it in step again. Ends with the run, or on SIGTERM; the last line is JSON.
"""
import http.client, json, signal, sys, threading, time, urllib.request

service, key, run = sys.argv[1:4]
hosts = dict(a.split("=") for a in sys.argv[4:])
out, state, ended = set(), {"asked": 0, "failed": []}, threading.Event()


def follow():
    last = 0
    while not ended.is_set():
        try:
            request = urllib.request.Request(f"{service}/api/runs/{run}/events", headers={"Authorization": "Bearer " + key, "Last-Event-ID": str(last)})
            with urllib.request.urlopen(request, timeout=60) as stream:
                for line in stream:
                    text = line.decode()
                    if not text.startswith("data: "):
                        continue
                    entry = json.loads(text[6:])
                    last, event = entry["sequence"], entry["event"]
                    step = event.get("step", "")
                    host = next((h for h in hosts if f"/{h}/" in step), None)
                    if event["event"] == "step-begun" and step.endswith("/declare-out") and host:
                        out.add(host)
                    if event["event"] == "step-done" and "/in-step" in step and host:
                        out.discard(host)
                    if event["event"] == "ended":
                        ended.set()
                        return
        except OSError:
            time.sleep(0.2)


def ask(host):
    connection = http.client.HTTPConnection(hosts[host], 8080, timeout=5)
    connection.request("GET", "/relay")
    answer = connection.getresponse()
    answer.read()
    connection.close()
    return answer.status


def probe(host):
    while not ended.is_set():
        if host in out:
            time.sleep(0.02)
            continue
        began = time.time()
        try:
            status = ask(host)
            if status != 200:
                state["failed"].append(f"{host} answered {status} at {began:.3f}")
        except OSError as error:
            state["failed"].append(f"{host}: {error} at {began:.3f}")
        state["asked"] += 1
        time.sleep(0.02)


signal.signal(signal.SIGTERM, lambda *_: ended.set())
threads = [threading.Thread(target=follow, daemon=True)] + [threading.Thread(target=probe, args=(h,)) for h in hosts]
for thread in threads:
    thread.start()
while not ended.is_set():
    time.sleep(0.05)
for thread in threads[1:]:
    thread.join()
print(json.dumps({"asked": state["asked"], "failed": state["failed"]}), flush=True)
sys.exit(1 if state["failed"] else 0)
