/* A Modbus device on a library that the product's authors did not write: device WAY WHERE,
   with the same registers as device.py. */
#include <errno.h>
#include <modbus/modbus.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static modbus_mapping_t *map;

/* put has the high word first, put_low the low one. */
static void put(int address, uint64_t bits, int words) {
  for (int i = 0; i < words; i++)
    map->tab_registers[address + i] = bits >> 16 * (words - 1 - i);
}

static void put_low(int address, uint64_t bits, int words) {
  for (int i = 0; i < words; i++)
    map->tab_registers[address + i] = bits >> 16 * i;
}

static uint64_t of_float(float v) {
  uint32_t bits;
  memcpy(&bits, &v, 4);
  return bits;
}

static uint64_t of_double(double v) {
  uint64_t bits;
  memcpy(&bits, &v, 8);
  return bits;
}

static void fill(void) {
  put(0, 914, 1);
  put(1, (uint16_t)-215, 1);
  put(10, 3000000001u, 2);
  put_low(12, 3000000002u, 2);
  put(14, (uint32_t)-70001, 2);
  put(20, of_float(4.25f), 2);
  put_low(22, of_float(-0.5f), 2);
  put(30, 5000000000ull, 4);
  put(34, (uint64_t)-5000000001ll, 4);
  put(38, of_double(1e-3), 4);
  put_low(42, of_double(12345.678), 4);
  put(50, 0x7fc00000, 2);
  put(60, 0x12345678, 2);
  put(62, 0x8005, 1);
  put(64, 1234, 1);
  put(65, (uint16_t)-2, 1);
  put(70, 11, 1);
  put(72, 12, 1);
  put(74, 13, 1);
  put(80, 0x4f50454e0000ull, 3);
  put(90, (uint64_t)-123456789012ll, 3);
  put(94, 0x4241, 1);
  map->tab_input_registers[0] = 77; /* address 5 */
  map->tab_bits[1] = 1;
  map->tab_input_bits[0] = 1;
}

/* serve answers the requests of one connection, for unit 3 only. */
static void serve(modbus_t *device) {
  uint8_t query[MODBUS_TCP_MAX_ADU_LENGTH];
  int header = modbus_get_header_length(device);
  for (;;) {
    int n = modbus_receive(device, query);
    if (n > 0 && query[header - 1] == 3)
      modbus_reply(device, query, n, map);
    else if (n < 0 && errno != EMBBADCRC && errno != ETIMEDOUT)
      return;
  }
}

int main(int argc, char **argv) {
  if (argc != 3)
    return 2;
  map = modbus_mapping_new_start_address(0, 2, 0, 2, 0, 100, 5, 1);
  if (!map)
    return 1;
  fill();
  if (!strcmp(argv[1], "rtu")) {
    modbus_t *device = modbus_new_rtu(argv[2], 19200, 'N', 8, 2);
    modbus_set_slave(device, 3);
    if (modbus_connect(device)) {
      fprintf(stderr, "%s\n", modbus_strerror(errno));
      return 1;
    }
    for (;;) {
      serve(device);
      usleep(10000);
    }
  }
  modbus_t *device = modbus_new_tcp("127.0.0.1", atoi(argv[2]));
  int listener = modbus_tcp_listen(device, 5);
  if (listener < 0)
    return 1;
  for (;;) {
    if (modbus_tcp_accept(device, &listener) < 0)
      return 1;
    serve(device);
    modbus_close(device);
  }
}
