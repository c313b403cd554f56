#!/usr/bin/env python3
"""Writes to whatever server leads now, one row after another, and keeps its own record of what was acknowledged.

usage: writer.py HOST,HOST,... RECORD
Ends on SIGTERM. RECORD gets a line for each acknowledged row (number, seconds since the start); the last line on standard output is JSON: rows, longest gaps in seconds.
"""
import json, os, signal, subprocess, sys, time

hosts, record = sys.argv[1], open(sys.argv[2], "w")
ended = False


def end(*_):
    global ended
    ended = True
    psql.kill()  # it may wait for an answer that never comes


signal.signal(signal.SIGTERM, end)
connection = f"host={hosts} port={','.join(['5432'] * len(hosts.split(',')))} dbname=ledger user=writer target_session_attrs=read-write connect_timeout=2 tcp_user_timeout=3000 keepalives_idle=1 keepalives_interval=1 keepalives_count=2"


def server():
    return subprocess.Popen(["psql", "-XAtq", "-v", "ON_ERROR_STOP=1", connection], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, bufsize=1)


began = last = time.monotonic()
psql, number, rows, gaps = server(), 0, 0, []
while not ended:
    # A row whose answer was lost may be there all the same: its number is not used again.
    number += 1
    answer = ""
    try:
        psql.stdin.write(f"insert into bookings (id) values ({number}) returning id;\n")
        psql.stdin.flush()
        answer = psql.stdout.readline()
    except OSError:
        pass
    now = time.monotonic()
    if answer.strip() == str(number):
        rows += 1
        gaps.append((round(now - last, 3), round(last - began, 1)))
        last = now
        record.write(f"{number} {now - began:.3f}\n")
        record.flush()
        time.sleep(0.005)
    else:
        psql.kill()
        psql.wait()
        time.sleep(0.02)
        psql = server()
psql.kill()
psql.wait()
print(json.dumps({"rows": rows, "longest": sorted(gaps, reverse=True)[:5]}))
