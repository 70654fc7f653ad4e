/* Reads ten registers again and again with libmodbus, as plainly as can be: what
   the run engine is measured against. loop PORT COUNT prints nanoseconds. */
#include <modbus.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

int main(int argc, char **argv)
{
	uint16_t words[10];
	struct timespec from, to;
	modbus_t *link;
	long n, count;
	if (argc != 3)
		return 2;
	link = modbus_new_tcp("127.0.0.1", atoi(argv[1]));
	count = atol(argv[2]);
	modbus_set_slave(link, 1);
	if (modbus_connect(link) != 0)
		return 1;
	clock_gettime(CLOCK_MONOTONIC, &from);
	for (n = 0; n < count; n++)
		if (modbus_read_registers(link, 0, 10, words) != 10)
			return 1;
	clock_gettime(CLOCK_MONOTONIC, &to);
	printf("%lld\n", (to.tv_sec - from.tv_sec) * 1000000000LL + to.tv_nsec - from.tv_nsec);
	return 0;
}
