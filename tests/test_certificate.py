"""Keys, requests and certificates: what is written, and what check finds in what it reads."""

import json
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from program import AFTER, run, run_bound_by_modes

from eager_lantern.formats.keys import PrivateKey, key_pem, new_key, self_signed
from eager_lantern.formats.shipped import finding_pages

TYPED = ("tides.saltmarsh.example", "10.61.4.20")


def openssl(*words: object) -> str:
    done = subprocess.run(["openssl", *map(str, words)], capture_output=True, text=True, check=False)
    return done.stdout + done.stderr


@pytest.mark.parametrize(("kind", "reads"), [("ec", "prime256v1"), ("rsa", "(3072 bit)")])
def test_openssl_reads_the_request_and_the_certificate(kind: str, reads: str, tmp_path: Path) -> None:
    made = [run("certificate", AFTER, "--into", tmp_path / "a", "--key", kind, "--name", "2001:db8:61::20")]
    made += [run("certificate", AFTER, "--into", tmp_path / "b", "--key", kind, "--self-signed", "--days", 90)]
    assert [each.returncode for each in made] == [0, 0]
    request = openssl("req", "-in", tmp_path / "a/tide-exchange-request.csr", "-noout", "-text", "-verify")
    certificate = tmp_path / "b/tide-exchange-certificate.pem"
    shown = openssl("x509", "-in", certificate, "-noout", "-text", "-fingerprint", "-sha256")
    names = "DNS:tides.saltmarsh.example, IP Address:10.61.4.20"
    assert [
        text for text in (reads, "verify OK", f"{names}, IP Address:2001:DB8:61:0:0:0:0:20") if text not in request
    ] == []
    assert [text for text in (reads, names) if text not in shown] == []
    assert shown.strip().rpartition("=")[2] == "".join(made[1].stdout.split("SHA-256 ")[1].split()[:2])
    assert openssl("verify", "-CAfile", certificate, "-x509_strict", certificate).strip().endswith("OK")
    assert "certificate" not in run("check", AFTER, "--certificate", certificate).stdout.split("Findings")[1]


def test_a_key_is_for_its_owner_alone_and_nothing_is_overwritten(tmp_path: Path) -> None:
    assert run("certificate", AFTER, "--into", tmp_path).returncode == 0
    before = {each: each.read_bytes() for each in tmp_path.iterdir()}
    assert {each.suffix: oct(each.stat().st_mode & 0o777) for each in before}[".pem"] == "0o600"
    again = run("certificate", AFTER, "--into", tmp_path, "--self-signed")
    assert (again.returncode, again.stdout, "found a file of that name" in again.stderr) == (2, "", True)
    assert {each: each.read_bytes() for each in tmp_path.iterdir()} == before
    (tmp_path / "shut").mkdir(mode=0o555)
    refused = run_bound_by_modes("certificate", AFTER, "--into", tmp_path / "shut" / "keys")
    assert (refused.returncode, len(refused.stderr.splitlines())) == (2, 1)


def check(folder: Path, keys: str) -> dict[str, str]:
    """The findings about certificates of the site with these keys added to its tls: kind and message."""
    text = AFTER.read_text().replace("required: true, names", f"required: true, {keys}, names")
    (folder / "x.site.yaml").write_text(text)
    found = json.loads(run("check", folder / "x.site.yaml", "--format", "json").stdout)["findings"]
    return {each["kind"]: each["message"] for each in found if each["kind"].startswith("certificate-")}


def written(folder: Path, key: PrivateKey, names: tuple[str, ...], starts_in: int = 0, days: int = 397) -> None:
    now = datetime.now(UTC) + timedelta(days=starts_in)
    (folder / "c.pem").write_bytes(self_signed(key, names, now, timedelta(days=days)))
    (folder / "k.pem").write_bytes(key_pem(key))


EC = new_key("ec")
FOUND: list[tuple[str, str, dict[str, Any]]] = [
    ("certificate-name-differs", "type 10.61.4.20, its certificate is made for *.saltmarsh.example",
     {"names": ("*.saltmarsh.example",)}),
    ("certificate-name-differs", "type tides.saltmarsh.example,", {"names": ("*.example", "10.61.4.20")}),
    ("certificate-key-short", "RSA key has 1024 bits", {"key": rsa.generate_private_key(65537, 1024)}),
    ("certificate-key-short", "EC key has 224 bits", {"key": ec.generate_private_key(ec.SECP224R1())}),
    ("certificate-near-end", "ends in 9 days", {"starts_in": -80, "days": 89}),
    ("certificate-near-end", "has ended 10 days ago", {"starts_in": -100, "days": 90}),
    ("certificate-near-end", "not valid yet", {"starts_in": 3}),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "says", "made"), FOUND)
def test_check_finds_what_is_wrong_with_a_certificate(
    kind: str, says: str, made: dict[str, Any], tmp_path: Path
) -> None:
    written(tmp_path, **{"key": EC, "names": TYPED, **made})
    found = check(tmp_path, "certificate: c.pem, key: k.pem")
    assert list(found) == [kind]
    assert says in found[kind]


def test_check_finds_a_key_of_another_certificate_and_spares_its_own(tmp_path: Path) -> None:
    written(tmp_path, EC, TYPED)
    assert check(tmp_path, "certificate: c.pem, key: k.pem") == {}
    (tmp_path / "k.pem").write_bytes(key_pem(new_key("ec")))
    assert list(check(tmp_path, "certificate: c.pem, key: k.pem")) == ["certificate-other-key"]


@pytest.mark.parametrize("content", [None, b"", b"-----BEGIN CERTIFICATE-----\nAAAA\n", bytes(range(256))])
def test_a_certificate_that_cannot_be_read_is_a_note_where_named_and_an_error_where_given(
    content: bytes | None, tmp_path: Path
) -> None:
    if content is not None:
        (tmp_path / "c.pem").write_bytes(content)
    assert list(check(tmp_path, "certificate: c.pem")) == ["certificate-unread"]
    given = run("check", AFTER, "--certificate", tmp_path / "c.pem")
    assert (given.returncode, given.stdout, len(given.stderr.splitlines())) == (2, "", 1)


def test_every_finding_about_certificates_is_shown_here() -> None:
    shown = {kind for kind, _, _ in FOUND} | {"certificate-other-key", "certificate-unread"}
    assert shown == {each for each in finding_pages() if each.startswith("certificate-")}
