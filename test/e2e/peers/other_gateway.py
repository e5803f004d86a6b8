"""A gateway that was written from docs/replication.md alone: it sends summaries and readings, answers requests, and compares.

other_gateway.py CENTRAL SECRET BEGIN
"""
import json
import secrets
import struct
import sys
import time
import urllib.request

import cbor2
import xxhash
import zstandard

central, secret, begin = sys.argv[1], sys.argv[2], int(sys.argv[3])
SITE, PATH, MINUTE = "other-beck", "other-beck/flume/flow", 60_000_000_000
COLUMNS = ["count", "mean", "min", "max", "covered", "last", "last_at", "first", "m2", "held", "min_at", "max_at", "first_at"]
session, number, acked = secrets.token_hex(8), 0, {"life": "", "stored": 0}


def typed(values, tag, form):
    return cbor2.CBORTag(tag, struct.pack("<%d%s" % (len(values), form), *values))


def value(n):
    return 5 + (n * 7 % 11) / 4


def summaries(first, count):
    """Each minute has two readings, at its begin and 30 s later."""
    rows = []
    for n in range(first, first + count):
        a, b = value(2 * n), value(2 * n + 1)
        low = min(a, b)
        rows.append([2, (a + b) / 2, low, max(a, b), MINUTE, b, MINUTE // 2, a, (a - b) ** 2 / 2, (a + b) / 2,
                     0 if low == a else MINUTE // 2, 0 if max(a, b) == a else MINUTE // 2, 0])
    return [begin + n * MINUTE for n in range(first, first + count)], rows


def definition():
    return {"path": PATH, "kind": "gauge", "unit": "m3/s", "fresh_for": MINUTE, "tiers": "1m"}


def run_of_summaries(first, count):
    starts, rows = summaries(first, count)
    return dict(definition(), tier=MINUTE, columns=COLUMNS, starts=typed(starts, 79, "q"),
                values=[typed([row[i] for row in rows], 86, "d") for i in range(len(COLUMNS))])


def run_of_readings(start, end):
    times = [begin + n * MINUTE // 2 for n in range(2 * 60) if start <= begin + n * MINUTE // 2 < end]
    return len(times), dict(definition(), tier=0, columns=["value"], starts=typed(times, 79, "q"),
                            values=[typed([value((t - begin) // (MINUTE // 2)) for t in times], 86, "d")])


def call(path, kind, body):
    asked = urllib.request.Request(central + path, data=body, headers={"Content-Type": kind, "Authorization": "Bearer " + secret})
    with urllib.request.urlopen(asked, timeout=70) as answer:
        return answer.read()


def send(runs=(), records=None):
    global number, acked
    number += 1
    envelope = {"version": 4, "speaks": 5, "gateway": SITE, "session": session, "number": number, "acked": acked,
                "status": {"sent_at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())}, "batch": b""}
    if runs or records:
        batch = {"tiers": [MINUTE], "series": list(runs)}
        if records:
            batch["records"] = records
        envelope["batch"] = zstandard.ZstdCompressor().compress(cbor2.dumps(batch))
    answer = json.loads(call("/api/v1/replication", "application/cbor", cbor2.dumps(envelope)))
    if envelope["batch"]:
        acked = {"life": answer["life"], "stored": answer["stored"]}
    print("answer", json.dumps(answer), flush=True)
    return answer


def nanos(text):
    return int(time.mktime(time.strptime(text, "%Y-%m-%dT%H:%M:%SZ")) - time.timezone) * 10**9


def carry_out(request):
    version = request["version"] + 1
    answer = {"id": request["id"], "site": SITE, "version": version, "state": "delivered"}
    send(records={"answers": [answer]})
    if request["kind"] != "readings":
        send(records={"answers": [dict(answer, version=version + 1, state="refused", detail="only readings are here")]})
        return
    body = request["body"]
    count, run = run_of_readings(nanos(body["from"]), nanos(body["to"]))
    send([run])
    sent = {"series": [{"path": PATH, "from": body["from"], "to": body["to"], "readings": count}]}
    send(records={"answers": [dict(answer, version=version + 1, state="done", detail="%d readings" % count, answer=json.dumps(sent).encode())]})


def words(*numbers):
    return b"".join(struct.pack("<d" if isinstance(n, float) else "<q", n) for n in numbers)


def compare():
    """Is everything the same at the central?"""
    total, starts_and_rows = 0, zip(*summaries(0, 60))
    for start, row in starts_and_rows:
        row = [float(v) for v in row]
        while row and row[-1] == 0:
            row.pop()
        total += xxhash.xxh64_intdigest(words(MINUTE, start, *row))
    total %= 2**64
    lines = ["gauge", "m3/s", MINUTE, 0, "", "", "", "", 0, "1m", "false"]
    total ^= xxhash.xxh64_intdigest("".join("%s\n" % line for line in lines))
    named = xxhash.xxh64_intdigest(struct.pack("<QQ", 60, total) + PATH.encode())
    day = 86_400 * 10**9
    ask = {"gateway": SITE, "scopes": [{"tier": MINUTE, "from": begin - begin % day, "to": begin + day}], "all": {"rows": 60, "sum": named}}
    answer = cbor2.loads(call("/api/v1/replication/compare", "application/cbor", cbor2.dumps(ask)))
    print("equal", answer["equal"], flush=True)


send([run_of_summaries(0, 60)], {"notes": [{"id": "n1", "version": 1, "about": SITE, "at": begin, "written": begin, "text": "from elsewhere", "author": "other"}]})
compare()
print("ready", flush=True)
while True:
    if json.loads(call("/api/v1/replication/wait", "application/json", json.dumps({"gateway": SITE}).encode()))["asked"]:
        for request in send().get("requests", []):
            carry_out(request)
