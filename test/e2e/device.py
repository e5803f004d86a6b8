"""A Modbus TCP device that the product's authors did not write the server of."""

import struct
import sys

from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext, ModbusSparseDataBlock
from pymodbus.server import StartTcpServer


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

device = ModbusSlaveContext(
    di=ModbusSequentialDataBlock(0, [1, 0]),
    co=ModbusSequentialDataBlock(0, [0, 1]),
    hr=ModbusSparseDataBlock(holding),
    ir=ModbusSparseDataBlock({5: 77}),
    zero_mode=True,
)
StartTcpServer(
    context=ModbusServerContext(slaves={3: device}, single=False),
    address=("127.0.0.1", int(sys.argv[1])),
    ignore_missing_slaves=True,
    allow_reuse_address=True,
)
