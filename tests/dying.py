"""Pieces of work whose worker dies, as one does that the system kills for its memory."""

from __future__ import annotations

import os
import signal

from hollow_chain.fleet.work import Done, HostWork, done

FATAL = "quay-0005"


def done_or_dead(work: HostWork) -> Done:
    """Do it, and die of the piece with the host :data:`FATAL`."""
    if any(piece.host == FATAL for part in work.parts for piece in part):
        os.kill(os.getpid(), signal.SIGKILL)
    return done(work)
