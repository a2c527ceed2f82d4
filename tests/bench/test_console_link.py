"""The link of a console, whichever end hangs up."""

import socket
import struct

import pytest

from warm_ember.bench.console import Console


@pytest.mark.parametrize("is_gone", [False, True])
def test_a_closed_console_keeps_no_link_open(is_gone: bool) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        console = Console(f"socket://127.0.0.1:{server.getsockname()[1]}")
        other_end, _ = server.accept()
        link = console._port._socket
        if is_gone:
            server.close()
            other_end.setsockopt(
                socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0)
            )  # as one that is switched off
            other_end.close()
            with console.came:
                assert console.came.wait_for(lambda: console.count > 0, 5.0)  # it has seen that
        console.close()
        other_end.close()
    assert link.fileno() == -1
