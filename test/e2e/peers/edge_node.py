"""A Sparkplug edge node on an encoder and an MQTT client that the product's authors did not
write: edge_node.py PORT. Its device measures 0, 1, 2 …; the numbers of some messages are left out."""

import json
import sys
import threading
import time

import paho.mqtt.client as mqtt
import sparkplug_b_pb2 as spb

GROUP, NODE, DEVICE, HOST = "mere", "gate", "buoy-1", "nexocumula"
INT16, DOUBLE, BOOLEAN, STRING, INT64, DATASET = 2, 10, 11, 12, 4, 16
lock = threading.Lock()
online, seq, value = threading.Event(), 0, 0


def payload(numbered=True):
    global seq
    p = spb.Payload(timestamp=int(time.time() * 1000))
    if numbered:
        p.seq = seq
        seq = (seq + 1) % 256
    return p


def death():
    p = payload(False)
    p.metrics.add(name="bdSeq", datatype=INT64, long_value=0)
    return p.SerializeToString()


def births():
    global seq
    seq = 0
    p = payload()
    p.metrics.add(name="bdSeq", datatype=INT64, long_value=0)
    p.metrics.add(name="Node Control/Rebirth", datatype=BOOLEAN, boolean_value=False)
    one = p.metrics.add(name="battery", alias=1, datatype=DOUBLE, double_value=12.5)
    one.properties.keys.append("unit")
    one.properties.values.add(type=STRING, string_value="V")
    client.publish(f"spBv1.0/{GROUP}/NBIRTH/{NODE}", p.SerializeToString())
    p = payload()
    p.metrics.add(name="Water/temp", alias=10, datatype=INT16, int_value=(-215) & 0xFFFFFFFF)
    p.metrics.add(name="count", alias=11, datatype=DOUBLE, double_value=value)
    p.metrics.add(name="valve", alias=12, datatype=STRING, string_value="open")
    table = p.metrics.add(name="profile", alias=13, datatype=DATASET)
    table.dataset_value.columns.append("depth")
    client.publish(f"spBv1.0/{GROUP}/DBIRTH/{NODE}/{DEVICE}", p.SerializeToString())


def heard(_client, _user, message):
    if message.topic == f"spBv1.0/STATE/{HOST}":
        if json.loads(message.payload)["online"]:
            online.set()
        return
    p = spb.Payload()
    p.ParseFromString(message.payload)
    if any(m.name == "Node Control/Rebirth" and m.boolean_value for m in p.metrics):
        print("asked to be born again", flush=True)
        with lock:
            births()


client = mqtt.Client(client_id="gate")
client.on_message = heard
client.will_set(f"spBv1.0/{GROUP}/NDEATH/{NODE}", death(), qos=1)
client.connect("127.0.0.1", int(sys.argv[1]), keepalive=2)
client.loop_start()
client.subscribe([(f"spBv1.0/{GROUP}/NCMD/{NODE}", 1), (f"spBv1.0/STATE/{HOST}", 1)])
online.wait()
with lock:
    births()
while True:
    with lock:
        value += 1
        if value == 20:
            seq = (seq + 5) % 256  # as if five messages were lost
        p = payload()
        p.metrics.add(alias=11, double_value=value, timestamp=p.timestamp)
        client.publish(f"spBv1.0/{GROUP}/DDATA/{NODE}/{DEVICE}", p.SerializeToString())
    time.sleep(0.05)
