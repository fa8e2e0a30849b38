/* A bare reader: one epoll loop that holds WebSocket clients in rooms of the
   stand-in, in turn, and only counts frames. It is what the engine is measured against.

     reader PORT CLIENTS [ROOMS [EVERY]]

   With EVERY it is a bare client: the rooms are its own, and in each one of its members
   says a message every so many milliseconds.
   It prints "ready" once all have entered, and ends with its input. */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

struct conn {
	int fd;
	int upgraded;       /* the answer's head is over */
	int match;          /* how much of \r\n\r\n was seen */
	unsigned char head[4]; /* of the frame under way */
	int have;
	size_t rest;        /* bytes of its payload that are still to come */
};

static unsigned long frames;

static void send_text(int fd, const char *text)
{
	unsigned char frame[300];
	size_t n = strlen(text);
	frame[0] = 0x81;
	frame[1] = 0x80 | n; /* under 126, masked with zeros */
	memset(frame + 2, 0, 4);
	memcpy(frame + 6, text, n);
	if (write(fd, frame, n + 6) < 0)
		perror("write");
}

static void count(struct conn *c, const unsigned char *b, size_t n)
{
	while (n > 0) {
		if (!c->upgraded) {
			c->match = *b == "\r\n\r\n"[c->match] ? c->match + 1 : *b == '\r';
			c->upgraded = c->match == 4;
			b++, n--;
			continue;
		}
		if (c->rest > 0) {
			size_t take = c->rest < n ? c->rest : n;
			c->rest -= take, b += take, n -= take;
			continue;
		}
		c->head[c->have++] = *b++, n--;
		if (c->have < 2 || ((c->head[1] & 127) == 126 && c->have < 4))
			continue;
		c->rest = (c->head[1] & 127) == 126 ? c->head[2] << 8 | c->head[3] : c->head[1] & 127;
		c->have = 0;
		frames++;
	}
}

static double now_ms(void)
{
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1e3 + t.tv_nsec / 1e6;
}

/* As long as what the engine says. */
static void say(int fd, int room)
{
	char text[200];
	snprintf(text, sizeof text, "{\"kind\":\"notice\",\"room\":\"berth-%d\","
		 "\"text\":\"gauge 3.2 m and nothing that anybody looks for\"}", room);
	send_text(fd, text);
}

int main(int argc, char **argv)
{
	static unsigned char buf[65536];
	static struct epoll_event events[256];
	int port = atoi(argv[1]), clients = argc > 2 ? atoi(argv[2]) : 0, rooms = argc > 3 ? atoi(argv[3]) : 1,
	    every = argc > 4 ? atoi(argv[4]) : 0;
	struct rlimit files = {0};
	getrlimit(RLIMIT_NOFILE, &files);
	files.rlim_cur = files.rlim_max;
	setrlimit(RLIMIT_NOFILE, &files);
	struct conn *conns = calloc(clients + 1, sizeof *conns);
	int ep = epoll_create1(0), ready = 0;
	struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(port), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	for (int i = 0; i < clients; i++) {
		int fd = socket(AF_INET, SOCK_STREAM, 0), one = 1;
		if (fd < 0 || connect(fd, (struct sockaddr *)&to, sizeof to) < 0) {
			perror("connect");
			return 1;
		}
		setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
		const char *ask = "GET /live HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
				  "Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\nSec-WebSocket-Version: 13\r\n\r\n";
		if (write(fd, ask, strlen(ask)) < 0)
			perror("write");
		char name[100];
		snprintf(name, sizeof name, "{\"kind\":\"name\",\"name\":\"reader-%d\"}", i);
		send_text(fd, name);
		snprintf(name, sizeof name, "{\"kind\":\"enter\",\"room\":\"%s-%d\"}",
			 every ? "berth" : "basin", i % rooms);
		send_text(fd, name);
		fcntl(fd, F_SETFL, O_NONBLOCK);
		conns[i].fd = fd;
		struct epoll_event ev = {.events = EPOLLIN, .data.u32 = i};
		epoll_ctl(ep, EPOLL_CTL_ADD, fd, &ev);
	}
	struct epoll_event input = {.events = EPOLLIN, .data.u32 = clients};
	epoll_ctl(ep, EPOLL_CTL_ADD, 0, &input);
	unsigned long said = 0;
	double began = 0;
	for (;;) {
		int wait = 1000;
		if (ready && every) {
			double due = began + (double)said * every / rooms, now = now_ms();
			for (; due <= now; due = began + (double)said * every / rooms) {
				say(conns[said % rooms].fd, said % rooms);
				said++;
			}
			wait = due - now + 1;
		}
		int n = epoll_wait(ep, events, 256, wait);
		for (int i = 0; i < n; i++) {
			unsigned id = events[i].data.u32;
			if (id == (unsigned)clients) {
				printf("%lu frames\n", frames);
				return 0;
			}
			ssize_t got = read(conns[id].fd, buf, sizeof buf);
			if (got > 0)
				count(&conns[id], buf, got);
			else if (got == 0)
				epoll_ctl(ep, EPOLL_CTL_DEL, conns[id].fd, NULL);
		}
		if (!ready && frames >= 3ul * clients) {
			ready = 1;
			began = now_ms();
			printf("ready\n");
			fflush(stdout);
		}
	}
}
