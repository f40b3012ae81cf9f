"""``make demo`` and ``make tour`` as a new user meets them, short of waiting for the whole scenario."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import pytest

from restless_tide.demo.processes import Ports
from restless_tide.wire.errors import Conflict
from tests.harbour import until
from tests.nursery import NurseryProcesses, run
from tests.patience import PATIENCE_SECONDS, WHOLE_WAY_SECONDS
from tests.ports import own_ports


def run_demo(folder: Path, port: int, *words: str) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {"TIDE_PORT": str(port)}
    return run(["restless_tide.demo", *words], environment, folder)


def test_a_taken_port_is_said_in_one_line_with_the_way_to_choose_another(tmp_path: Path) -> None:
    ports = own_ports()
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", ports.mail))
        taken.listen()
        with pytest.raises(Conflict):
            ports.demand_free()
        done = run_demo(tmp_path, ports.desk)
    assert done.returncode == 1
    (line,) = done.stderr.splitlines()
    assert f"Port {ports.mail} is taken" in line
    assert "make demo TIDE_PORT=" in line
    assert not (tmp_path / ".demo").exists()


def test_a_demo_stopped_early_ends_everything_and_begins_anew_the_next_time(tmp_path: Path) -> None:
    ports = own_ports()
    environment = os.environ | {"TIDE_PORT": str(ports.desk)}
    command = [sys.executable, "-m", "restless_tide.demo"]
    demo = subprocess.Popen(
        command, cwd=tmp_path, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        preexec_fn=_heed_ctrl_c,
    )  # fmt: skip
    assert demo.stdout is not None
    until(lambda: (tmp_path / ".demo" / "desk.log").exists(), bool)
    demo.send_signal(signal.SIGINT)
    said, _ = demo.communicate(timeout=PATIENCE_SECONDS)
    assert (demo.returncode, "begins it anew" in said) == (130, True), said
    assert "Traceback" not in said
    assert not (tmp_path / ".demo" / "sign-in.json").exists()
    until(lambda: _free(ports), bool)
    assert _left_over(tmp_path) == []


def _heed_ctrl_c() -> None:
    """A shell starts what runs in its background deaf to Ctrl-C, and so these tests and all that they start."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def _left_over(folder: Path) -> list[str]:
    """Processes that still work in the folder."""
    found = []
    for place in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            if (place / "cwd").readlink() == folder:
                found.append(place.name)
    return found


def _free(ports: Ports) -> bool:
    try:
        ports.demand_free()
    except Conflict:
        return False
    return True


def test_reset_throws_the_data_away(tmp_path: Path) -> None:
    (tmp_path / ".demo").mkdir()
    done = run_demo(tmp_path, 7100, "reset")
    assert done.returncode == 0
    assert not (tmp_path / ".demo").exists()


def test_a_process_that_cannot_start_is_named_with_its_log(tmp_path: Path) -> None:
    processes = NurseryProcesses(tmp_path, own_ports(), {"TIDE_PORT": "no number"})
    with processes, pytest.raises(Exception, match="desk process did not start"):
        processes.start("desk")
    assert "TIDE_PORT is 'no number'" in (tmp_path / "desk.log").read_text()


def test_the_tour_walks_the_whole_way(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "restless_tide.demo.tour"],
        cwd=tmp_path,
        env=os.environ | {"TIDE_URL": "http://127.0.0.1:9", "TIDE_TOKEN": "tide_of_another_desk"},
        capture_output=True,
        text=True,
        timeout=WHOLE_WAY_SECONDS,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    assert "$ tide rollout halt 2.4.0" in done.stdout
    assert "ordered, not confirmed" in done.stdout
    assert "nothing was altered" in done.stdout
