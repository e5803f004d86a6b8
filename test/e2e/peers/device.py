"""A Modbus device that the product's authors did not write the server of: device.py WAY WHERE [CA CERT KEY]."""

import ssl
import struct
import sys

from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext, ModbusSparseDataBlock
from pymodbus.server import StartSerialServer, StartTcpServer, StartTlsServer, StartUdpServer
from pymodbus.transaction import ModbusRtuFramer, ModbusSocketFramer


def words(form, value):
    raw = struct.pack(">" + form, value)
    return [int.from_bytes(raw[i : i + 2], "big") for i in range(0, len(raw), 2)]


holding = {}


def put(address, values):
    for i, value in enumerate(values):
        holding[address + i] = value


put(0, [914])  # uint16, tenths of l/s
put(1, words("h", -215))  # int16, hundredths of Cel
put(10, words("I", 3_000_000_001))  # uint32, high word first
put(12, list(reversed(words("I", 3_000_000_002))))  # uint32, low word first
put(14, words("i", -70_001))  # int32
put(20, words("f", 4.25))  # float32
put(22, list(reversed(words("f", -0.5))))  # float32, low word first
put(30, words("Q", 5_000_000_000))  # uint64
put(34, words("q", -5_000_000_001))  # int64
put(38, words("d", 1e-3))  # float64
put(42, list(reversed(words("d", 12345.678))))  # float64, low word first
put(50, words("f", float("nan")))  # a probe that is broken

put(60, [0x1234, 0x5678])  # bcd32
put(62, [0x8005])  # magnitude16
put(64, words("h", 1234))  # to be scaled by the next
put(65, words("h", -2))
put(70, [11, 0, 12, 0, 13])  # three values, two apart
put(80, [int.from_bytes(b"OP"), int.from_bytes(b"EN"), 0])  # text
put(90, words("q", -123456789012)[1:])  # int48
put(94, [0x4142 >> 8 | 0x4142 << 8 & 0xFF00])  # uint16, low byte first

device = ModbusSlaveContext(
    di=ModbusSequentialDataBlock(0, [1, 0]),
    co=ModbusSequentialDataBlock(0, [0, 1]),
    hr=ModbusSparseDataBlock(holding),
    ir=ModbusSparseDataBlock({5: 77}),
    zero_mode=True,
)
context = ModbusServerContext(slaves={3: device}, single=False)
way, where = sys.argv[1], sys.argv[2]
common = {"context": context, "ignore_missing_slaves": True}
if way == "rtu":
    StartSerialServer(port=where, framer=ModbusRtuFramer, baudrate=19200, parity="N", stopbits=2, **common)
common["address"] = ("127.0.0.1", int(where))
if way == "udp":
    StartUdpServer(**common)
elif way == "rtu+udp":
    StartUdpServer(framer=ModbusRtuFramer, **common)
elif way == "tls":
    secured = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH, cafile=sys.argv[3])
    secured.verify_mode = ssl.CERT_REQUIRED
    secured.load_cert_chain(sys.argv[4], sys.argv[5])
    StartTlsServer(framer=ModbusSocketFramer, sslctx=secured, allow_reuse_address=True, **common)
elif way == "rtu+tcp":
    StartTcpServer(framer=ModbusRtuFramer, allow_reuse_address=True, **common)
else:
    StartTcpServer(allow_reuse_address=True, **common)
