/* Watches the anchor: a compiled program that logs with perror(3) and exits with 1. */
#include <arpa/inet.h>
#include <err.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/socket.h>
#include <unistd.h>

static char listens[128], data[256], logfile[256], lock[256], mode[64];
static int workers;

static void set(const char *path, int number, char *key, char *value) {
  if (!strcmp(key, "listen")) strcpy(listens, value);
  else if (!strcmp(key, "data")) strcpy(data, value);
  else if (!strcmp(key, "log")) strcpy(logfile, value);
  else if (!strcmp(key, "lock")) strcpy(lock, value);
  else if (!strcmp(key, "mode")) strcpy(mode, value);
  else if (!strcmp(key, "workers")) workers = atoi(value);
  else errx(1, "%s, line %d: keyword \"%s\" unknown", path, number, key);
}

int main(int argc, char **argv) {
  char line[256], key[64], value[128];
  int number = 0, one = 1;
  if (argc != 3 || strcmp(argv[1], "--config")) errx(2, "invalid option -- '%s'", argc > 1 ? argv[1] : "");
  FILE *in = fopen(argv[2], "r");
  if (!in) err(1, "%s", argv[2]);
  while (fgets(line, sizeof line, in)) {
    number++;
    if (line[0] == '#' || line[0] == '\n') continue;
    if (sscanf(line, "%63s = %127s", key, value) != 2) errx(1, "%s, line %d: cannot be parsed", argv[2], number);
    set(argv[2], number, key, value);
  }
  if (workers < 1 || workers > 64) errx(1, "%s: workers (%d) must lie between 1 and 64", argv[2], workers);
  FILE *log = fopen(logfile, "a");
  if (!log) { perror("log"); return 1; }
  int held = open(lock, O_RDWR);
  if (held < 0) { perror(lock); return 1; }
  if (flock(held, LOCK_EX | LOCK_NB)) { perror("flock"); return 1; }
  int store = open(data, O_RDWR | O_CREAT | O_APPEND, 0640);
  if (store < 0) { perror("open data"); return 1; }
  char *colon = strrchr(listens, ':');
  if (!colon) errx(1, "listen: no port in '%s'", listens);
  *colon = 0;
  struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons(atoi(colon + 1))};
  if (inet_pton(AF_INET, listens, &at.sin_addr) != 1) errx(1, "bad address '%s'", listens);
  int s = socket(AF_INET, SOCK_STREAM, 0);
  if (s < 0) err(1, "socket");
  setsockopt(s, SOL_SOCKET, SO_REUSEADDR, &one, sizeof one);
  if (bind(s, (struct sockaddr *)&at, sizeof at)) { perror("bind"); return 1; }
  if (listen(s, 5)) { perror("listen"); return 1; }
  fprintf(log, "watching\n");
  fflush(log);
  for (;;) close(accept(s, NULL, NULL));
}
