/* A Modbus client of another hand, by libmodbus, for tests. PORT is a TCP port of this
   machine, or the path of a serial port, at 19200 8N1.
   registers PORT UNIT read START COUNT    prints holding registers, one a line
   registers PORT UNIT write START VALUE…  writes them
   An exception is printed by its words, and ends it with 1. */
#include <modbus.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int main(int argc, char **argv)
{
	uint16_t words[125];
	int i, done, count;
	modbus_t *link;
	if (argc < 6)
		return 2;
	if (argv[1][0] == '/')
		link = modbus_new_rtu(argv[1], 19200, 'N', 8, 1);
	else
		link = modbus_new_tcp("127.0.0.1", atoi(argv[1]));
	modbus_set_slave(link, atoi(argv[2]));
	modbus_set_response_timeout(link, argv[1][0] == '/' ? 1 : 5, 0);
	if (modbus_connect(link) != 0) {
		printf("%s\n", modbus_strerror(errno));
		return 1;
	}
	if (strcmp(argv[3], "read") == 0) {
		count = atoi(argv[5]);
		done = modbus_read_registers(link, atoi(argv[4]), count, words);
	} else {
		count = argc - 5;
		for (i = 0; i < count; i++)
			words[i] = (uint16_t)atoi(argv[5 + i]);
		done = modbus_write_registers(link, atoi(argv[4]), count, words);
	}
	if (done != count) {
		printf("%s\n", modbus_strerror(errno));
		return 1;
	}
	for (i = 0; i < count; i++)
		printf("%u\n", words[i]);
	modbus_close(link);
	modbus_free(link);
	return 0;
}
