"""A service of the control-manager family in Python: says that it is up, and waits until it is to stop. Call: ``python tide_service.py NAME``."""

import sys

import servicemanager
import win32event
import win32service
import win32serviceutil


class Tide(win32serviceutil.ServiceFramework):
    """It does nothing but be there."""

    _svc_name_ = sys.argv[1]
    _svc_display_name_ = sys.argv[1]

    def __init__(self, arguments):
        super().__init__(arguments)
        self.over = win32event.CreateEvent(None, 0, 0, None)

    def SvcStop(self):
        self.ReportServiceStatus(win32service.SERVICE_STOP_PENDING)
        win32event.SetEvent(self.over)

    def SvcDoRun(self):
        win32event.WaitForSingleObject(self.over, win32event.INFINITE)


servicemanager.Initialize(Tide._svc_name_, None)
servicemanager.PrepareToHostSingle(Tide)
servicemanager.StartServiceCtrlDispatcher()
