"""The bridge to a kernel lets go of it, whatever the kernel does meanwhile."""

from __future__ import annotations

import threading
from multiprocessing.connection import Client
from pathlib import Path
from typing import cast

from inchworm.engine.running.bridge import Bridge, BridgeSocket


class _Folder:
    def __init__(self, folder: Path) -> None:
        self.folder = folder


def test_it_closes_while_a_kernel_leaves(tmp_path: Path) -> None:
    """The thread that answers may have left before anybody asks it to."""
    bridge = BridgeSocket(cast(Bridge, _Folder(tmp_path)))
    kernel = Client(bridge.address, family="AF_UNIX", authkey=bridge.key)
    closing = threading.Thread(target=bridge.close, daemon=True)
    closing.start()
    while not bridge.is_closing:
        pass
    kernel.close()
    closing.join(30)
    assert not closing.is_alive()
