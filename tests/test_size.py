"""How many data ports: the formula against tables, a simulation, and a real server under load."""

import asyncio
import json
import random
import re
import time
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import numpy as np
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st
from program import AFTER, run, run_bound_by_modes

from eager_lantern.core.findings.server import CHANCE, HANDLING, ports_needed
from eager_lantern.core.model.entries import Port
from eager_lantern.core.model.site import Load, Service, default_own_ports
from eager_lantern.core.sizing.demand import (
    DYNAMIC,
    ClearRange,
    Demand,
    Estimate,
    Sized,
    Sizing,
    assumed,
    chance_of_none,
    clear_range,
    demand_of,
    ports_at_once,
    servers_for,
    sized,
    taken_by,
)
from eager_lantern.core.sizing.simulation import estimated, simulated
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.lab.servers.ftp_server import StandIn
from eager_lantern.lab.servers.setup import Guest, StandInSetup

PRINTED = yaml.safe_load((Path(__file__).parent / "cases" / "erlang.yaml").read_text())
ENTRIES = [(float(chance), int(n), load) for chance, row in PRINTED.items() for n, load in row.items()]
LOAD = ["--client-count", 40, "--files-per-hour", 160, "--typical-size", "6 MB", "--rate", "20 Mbit/s"]


def load_that_loses(servers: int, chance: float) -> float:
    """The load, in erlang, of which the formula loses this share: the loss grows with the load."""
    low, high = 0.0, 3.0 * servers
    for _ in range(80):
        middle = (low + high) / 2
        low, high = (middle, high) if chance_of_none(servers, middle) < chance else (low, middle)
    return low


@pytest.mark.parametrize(("chance", "servers", "printed"), ENTRIES)
def test_the_formula_gives_what_the_tables_print(chance: float, servers: int, printed: str) -> None:
    load = load_that_loses(servers, chance)
    digits = len(printed.replace(".", "").lstrip("0"))
    assert f"{load:#.{digits}g}" == printed


@given(st.floats(0, 500), st.floats(1e-6, 0.9))
def test_the_size_for_a_chance_is_the_smallest_that_meets_it(offered: float, chance: float) -> None:
    servers = servers_for(offered, chance)
    assert chance_of_none(servers, offered) <= chance
    assert servers == 0 or chance_of_none(servers - 1, offered) > chance


def test_the_work_of_clients_that_cannot_be_shared_out_evenly_is_rounded_up() -> None:
    busiest = Demand(3, 4, 4, 0, transfer_seconds=1.0, handling_seconds=1.0, rests_seconds=60.0, burst=3)
    assert busiest.most_at_once == 2  # of four files one of three clients fetches two


def test_the_simulation_holds_the_formula_within_its_interval() -> None:
    chance, held = random.Random(61), 0
    for seed in range(60):
        files = chance.randint(100, 4000)
        demand = Demand(40, files, chance.randint(0, files), files, 4.0, 1.0, chance.choice([0.0, 60.0]), 40)
        ports = max(1, round(demand.offered * chance.uniform(0.5, 1.2)))
        found = simulated(demand, ports, seed, 20_000)
        held += found.low <= chance_of_none(ports, demand.offered) <= found.high
    assert held >= 52  # of intervals that are right 95 times in 100, so few would be one run in a thousand


@given(st.integers(1, 3000), st.lists(st.tuples(st.integers(1024, 65535), st.integers(0, 9000)), max_size=6))
def test_a_proposed_range_has_the_size_and_meets_nothing_that_is_taken(size: int, spans: list[tuple[int, int]]) -> None:
    taken = PortSet.of(*((low, min(65535, low + length)) for low, length in spans))
    try:
        found = clear_range(size, taken, PortSet()).ports
    except ValueError as error:
        widest = int(re.search(r"widest gap has (\d+)", str(error))[1])  # type: ignore[index]
        assert widest < size
    else:
        assert (len(found), len(found.spans), found & taken) == (size, 1, PortSet())
        assert found <= DYNAMIC or clear_range(1, PortSet(), PortSet()).among == "dynamic"


PORTS, RATE, HOLDS_SECONDS, ARRIVALS = 4, 60, 0.05, 900


async def said(pair: tuple[asyncio.StreamReader, asyncio.StreamWriter], words: str = "") -> str:
    """Send a command and read its reply of one line."""
    if words:
        pair[1].write(f"{words}\r\n".encode())
    return (await pair[0].readline()).decode()


async def one_transfer(control: tuple[asyncio.StreamReader, asyncio.StreamWriter], holds: float) -> tuple[bool, float]:
    """Whether a transfer found no port, and how long it held the one that it found."""
    asked = time.monotonic()
    reply = await said(control, "EPSV")
    if reply.startswith("425"):
        return True, 0.0
    _, data = await asyncio.open_connection("127.0.0.1", int(reply.split("|")[3]))
    assert (await said(control, "STOR tide.csv")).startswith(("125", "150"))
    await asyncio.sleep(holds)
    data.close()
    assert (await said(control)).startswith("226")
    return False, time.monotonic() - asked


async def loaded(port: int, chance: random.Random) -> list[tuple[bool, float]]:
    """A seeded load upon a server: transfers that come at random and last for random times."""
    idle: asyncio.Queue[tuple[asyncio.StreamReader, asyncio.StreamWriter]] = asyncio.Queue()
    for _ in range(24):
        control = await asyncio.open_connection("127.0.0.1", port)
        for words in ("", "USER station", "PASS ebb"):
            await said(control, words)
        idle.put_nowait(control)

    async def arrival(holds: float) -> tuple[bool, float]:
        control = await idle.get()
        result = await one_transfer(control, holds)
        idle.put_nowait(control)
        return result

    tasks = []
    for _ in range(ARRIVALS):
        await asyncio.sleep(chance.expovariate(RATE))
        tasks.append(asyncio.create_task(arrival(chance.expovariate(1 / HOLDS_SECONDS))))
    return await asyncio.gather(*tasks)


def measured(folder: Path, chance: random.Random) -> tuple[Estimate, float]:
    """The share of transfers that a real server refuses, and the load that was offered to it."""
    ports = PortSet.of((62100, 62099 + PORTS))
    with StandIn(StandInSetup((Guest("station", "ebb", folder),), passive_ports=ports)) as server:
        started = time.monotonic()
        found = asyncio.run(loaded(server.port, chance))
        lasted = time.monotonic() - started
    held = [seconds for lost, seconds in found if not lost]
    seen = estimated(np.array([lost for lost, _ in found], dtype=np.int8), quantile=3.8834)  # 99.9 %
    return seen, len(found) / lasted * sum(held) / len(held)


@pytest.mark.sweep
def test_a_real_server_refuses_the_predicted_share_of_transfers(tmp_path: Path) -> None:
    chance = random.Random(61)
    agree = False
    for _ in range(3):  # arrivals that a busy machine delays do not come by chance
        seen, offered = measured(tmp_path, chance)
        assert seen.share > 0.05  # else the load would prove nothing
        agree = agree or seen.low <= chance_of_none(PORTS, offered) <= seen.high
        if agree:
            break
    assert agree, (seen, offered)


def test_size_of_a_site_says_which_rule_decides_and_whether_the_range_is_enough(tmp_path: Path) -> None:
    done = run("size", AFTER, "--picture", tmp_path / "a.png", "--picture", tmp_path / "a.svg", "--format", "json")
    result = json.loads(done.stdout)
    assert (result["size"], result["decided_by"], result["by_burst"], result["by_load"]) == (200, "burst", 200, 10)
    assert result["burst"] == {"clients": 40, "ports_each": 5}
    short = {each["ports"]: each["burst"] for each in result["sizes"]}
    assert short == {ports: pytest.approx(max(0, 200 - ports) / 200) for ports in short}
    assert min(short) < 200 <= max(short)
    assert (tmp_path / "a.png").read_bytes().startswith(b"\x89PNG")
    assert ElementTree.fromstring((tmp_path / "a.svg").read_text()).tag.endswith("svg")
    text = run("size", AFTER).stdout
    assert "256 data ports, 200 needed" in text
    assert max(map(len, text.splitlines()[:-1])) <= 100


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--client-count", 0], "at least 1"),
        (["--client-count", -3], "-3"),
        (["--typical-size", "-6 MB"], "as in 40 MB"),
        (["--rate", "0 Mbit/s"], "never ends"),
        (["--rate", "20"], "a number and a unit"),
        (["--chance", "0"], "between 0 and 1"),
        (["--chance", "1"], "between 0 and 1"),
        (["--chance", "often"], "0.1 %"),
        (["--fetched-per-hour", 161], "161 files to fetch"),
        (["--files-per-hour", 0, "--listings-per-hour", 0], "nothing to size"),
        (["--burst", 4000], "ports together that are clear"),
        (["--files-per-hour", 10**9], "at most the 65535"),
        (["--local-ports", "60999-32768"], "ends before it starts"),
        (["--picture", "size.gif"], ".png or .svg"),
    ],
)
def test_a_load_without_sense_gets_one_clear_line(words: list[object], says: str) -> None:
    done = run("size", *LOAD, *words)
    assert (done.returncode, done.stdout) == (2, "")
    assert says in " ".join(done.stderr.split())


@pytest.mark.lab
def test_a_picture_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    there = tmp_path / "there.png"
    there.write_text("mine")
    again = run("size", AFTER, "--picture", tmp_path / "new.svg", "--picture", there)
    assert (again.returncode, again.stdout, "found a file of that name" in again.stderr) == (2, "", True)
    assert {each.name: each.read_text() for each in tmp_path.iterdir()} == {"there.png": "mine"}
    assert run("size", AFTER, "--picture", there, "--force").returncode == 0
    shut = tmp_path / "shut"
    shut.mkdir(mode=0o555)
    refused = run_bound_by_modes("size", AFTER, "--picture", shut / "a.png")
    assert (refused.returncode, len(refused.stderr.splitlines())) == (2, 1)
    assert "permission denied" in refused.stderr


def test_a_new_range_keeps_clear_of_other_services_and_of_the_systems_ports() -> None:
    site = read_site(AFTER).site
    taken = taken_by(site, "tide-exchange")
    assert all(PortSet.single(each) & taken for each in (22, site.server.own_ports.lowest))
    assert not PortSet.parse("21, 61200-61455") & taken - site.server.own_ports
    assert PortSet.parse("21, 61200-61455") - taken_by(site, "remote-desk") == PortSet()


@pytest.mark.parametrize(("present", "keeps"), [("61200-61209", True), ("61200-61208", False), ("32768-32900", False)])
def test_a_present_range_is_kept_where_it_is_wide_enough_and_clear(present: str, keeps: bool) -> None:
    sizing = Sizing(Demand(1, 1, 1, 1, 1.0, 1.0, 60.0, 1), 0.001, 4, 10)
    clear = ClearRange(PortSet(), "user", PortSet())
    sized_now = Sized("x", sizing, (), (), (), clear, PortSet.parse(present), PortSet.parse("32768-60999"))
    assert sized_now.keeps is keeps


@pytest.mark.parametrize("clients", [1, 10, 250])
def test_what_new_proposes_size_computes_and_check_accepts_is_one_figure(clients: int) -> None:
    load = Load(client_count=clients, burst=clients)
    sizing = sized(demand_of(load, HANDLING), CHANCE.share)
    taken = default_own_ports("linux")
    assert sizing.size == ports_at_once(clients) == len(clear_range(sizing.size, taken, PortSet()).ports)
    assert ports_needed(Service(name="files", protocol="ftp", control_port=Port(21), load=load))[0] == sizing.size
    assert assumed(load) == ("one file each", "one second each")


def test_users_at_once_are_enough_for_a_size_and_what_is_stated_besides_refines_it() -> None:
    alone = demand_of(Load(burst=12), HANDLING)
    assert (alone.clients, alone.files, alone.burst) == (12, 12, 12)
    refined = demand_of(Load(burst=12, client_count=40, files_per_hour=400), HANDLING)
    assert (refined.clients, refined.files, refined.listings) == (40, 400, 400)
    with pytest.raises(ValueError, match="expected one: how many clients there are, or come at once"):
        demand_of(Load(files_per_hour=400), HANDLING)
