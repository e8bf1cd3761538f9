/* A service of the control-manager family that does what its arguments say, so that a host can be broken in many ways.
   berth.exe NAME [--log FILE] [--read FILE] [--port N] [--asks NAME] [--starts-in MS [--counts MS]] [--sticks] [--mute]
             [--ends N] [--ends-own N] [--dies N] [--dies-after MS] [--pauses] [--sticks-at-stop] [--says TEXT] */
#include <winsock2.h>
#include <windows.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static SERVICE_STATUS status;
static SERVICE_STATUS_HANDLE handle;
static HANDLE over;
static int count;
static char **words;
static const char *log_path;

static const char *option(const char *name) {
  for (int i = 2; i + 1 < count; i++) if (!strcmp(words[i], name)) return words[i + 1];
  return 0;
}

static int flag(const char *name) {
  for (int i = 2; i < count; i++) if (!strcmp(words[i], name)) return 1;
  return 0;
}

static void say(const char *level, const char *text, const char *about) {
  FILE *file = log_path ? fopen(log_path, "a") : 0;
  SYSTEMTIME now;
  if (!file) return;
  GetLocalTime(&now);
  fprintf(file, "%04d-%02d-%02d %02d:%02d:%02d [%s] %s%s\n", now.wYear, now.wMonth, now.wDay, now.wHour, now.wMinute, now.wSecond,
          level, text, about);
  fclose(file);
}

static void report(DWORD state, DWORD checkpoint, DWORD hint, DWORD code, DWORD own) {
  status.dwServiceType = SERVICE_WIN32_OWN_PROCESS;
  status.dwCurrentState = state;
  status.dwControlsAccepted = state == SERVICE_RUNNING || state == SERVICE_PAUSED
                                  ? SERVICE_ACCEPT_STOP | (flag("--pauses") ? SERVICE_ACCEPT_PAUSE_CONTINUE : 0) : 0;
  status.dwWin32ExitCode = code;
  status.dwServiceSpecificExitCode = own;
  status.dwCheckPoint = checkpoint;
  status.dwWaitHint = hint;
  SetServiceStatus(handle, &status);
}

static DWORD WINAPI control(DWORD code, DWORD kind, void *data, void *context) {
  if (code == SERVICE_CONTROL_STOP) {
    report(SERVICE_STOP_PENDING, 1, 500, 0, 0);
    if (!flag("--sticks-at-stop")) SetEvent(over);
  } else if (code == SERVICE_CONTROL_PAUSE) {
    report(SERVICE_PAUSED, 0, 0, 0, 0);
  } else if (code == SERVICE_CONTROL_CONTINUE) {
    report(SERVICE_RUNNING, 0, 0, 0, 0);
  }
  return NO_ERROR;
}

static int leave(DWORD code, DWORD own) {
  report(SERVICE_STOPPED, 0, 0, code, own);
  return 0;
}

/* Whether a service that does not run is likely to come up by itself. */
static int comes(SC_HANDLE one, SERVICE_STATUS *found) {
  char data[8192];
  DWORD size;
  QUERY_SERVICE_CONFIGA *config = (void *)data;
  if (found->dwCurrentState == SERVICE_START_PENDING) return 1;
  return found->dwCurrentState == SERVICE_STOPPED && found->dwWin32ExitCode == ERROR_SERVICE_NEVER_STARTED &&
         QueryServiceConfigA(one, config, sizeof data, &size) && config->dwStartType == SERVICE_AUTO_START;
}

/* What it needs before it is up; 0 where it has all of it. */
static DWORD needs(void) {
  const char *path = option("--read"), *port = option("--port"), *asked = option("--asks");
  if (path) {
    HANDLE file = CreateFileA(path, GENERIC_READ, 7, 0, OPEN_EXISTING, 0, 0);
    if (file == INVALID_HANDLE_VALUE) {
      DWORD code = GetLastError();
      say("error", code == 5 ? "access denied: " : "cannot open: no such file: ", path);
      return code;
    }
    CloseHandle(file);
  }
  if (port) {
    WSADATA data;
    struct sockaddr_in where = {0};
    WSAStartup(0x202, &data);
    SOCKET one = socket(AF_INET, SOCK_STREAM, 0);
    where.sin_family = AF_INET;
    where.sin_port = htons((u_short)atoi(port));
    where.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (bind(one, (struct sockaddr *)&where, sizeof where) || listen(one, 5)) {
      DWORD code = WSAGetLastError();
      say("error", "cannot listen: address already in use: 127.0.0.1:", port);
      return code;
    }
    say("info", "listening on 127.0.0.1:", port);
  }
  if (asked) {
    SC_HANDLE manager = OpenSCManagerA(0, 0, SC_MANAGER_CONNECT);
    SC_HANDLE one = OpenServiceA(manager, asked, SERVICE_QUERY_STATUS | SERVICE_QUERY_CONFIG);
    SERVICE_STATUS found = {0};
    /* One that a boot has yet to start, or is starting, is waited for: not every manager does that for what stands above it. */
    for (int left = 80; one && QueryServiceStatus(one, &found) && left > 0 && comes(one, &found); left--) Sleep(50);
    if (!one || found.dwCurrentState != SERVICE_RUNNING) {
      char seen[300];
      snprintf(seen, sizeof seen, "%s (state %lu, number %lu)", asked, one ? found.dwCurrentState : 0, found.dwWin32ExitCode);
      say("error", "no answer from service ", seen);
      return ERROR_SERVICE_DEPENDENCY_FAIL;
    }
  }
  return 0;
}

static void WINAPI begin(DWORD n, char **given) {
  DWORD code;
  handle = RegisterServiceCtrlHandlerExA(words[1], control, 0);
  report(SERVICE_START_PENDING, 1, option("--starts-in") ? 2000 : 500, 0, 0);
  if (option("--says")) say("error", option("--says"), "");
  if (option("--starts-in")) {
    DWORD left = atoi(option("--starts-in")), step = option("--counts") ? atoi(option("--counts")) : 500, at = 1;
    for (; left > 0; left = left > step ? left - step : 0) {
      Sleep(left < step ? left : step);
      report(SERVICE_START_PENDING, option("--counts") ? ++at : 1, 2000, 0, 0);
    }
  }
  if (flag("--sticks")) Sleep(INFINITE);
  if ((code = needs())) { leave(code, 0); return; }
  if (option("--ends")) { leave(atoi(option("--ends")), 0); return; }
  if (option("--ends-own")) { leave(ERROR_SERVICE_SPECIFIC_ERROR, atoi(option("--ends-own"))); return; }
  if (option("--dies")) ExitProcess(atoi(option("--dies")));
  report(SERVICE_RUNNING, 0, 0, 0, 0);
  say("info", "up", "");
  if (option("--dies-after")) { Sleep(atoi(option("--dies-after"))); ExitProcess(3); }
  WaitForSingleObject(over, INFINITE);
  leave(0, 0);
}

int main(int n, char **given) {
  SERVICE_TABLE_ENTRYA table[] = {{"", begin}, {0, 0}};
  count = n;
  words = given;
  log_path = option("--log");
  over = CreateEventA(0, 1, 0, 0);
  if (n < 2) return 2;
  if (flag("--mute")) Sleep(INFINITE);
  StartServiceCtrlDispatcherA(table);
  return 0;
}
