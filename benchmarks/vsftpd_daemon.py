"""A third FTP daemon for the benchmarks: Debian's vsftpd, through its public interface.

Its package refuses to stand beside the first daemon's, so its files are put into a folder of their own. It lets in
users of the system by PAM: an account of the lab is one for as long as a recording takes.
"""

import os
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from eager_lantern.core.model.site import Active, Passive, Service
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.endpoints import resolved
from eager_lantern.lab.daemons.proftpd import hashed
from eager_lantern.lab.servers.setup import Guest
from eager_lantern.lab.tasks.tasks import Start


def unpacked(folder: Path) -> None:
    """Put the daemon's files into a folder."""
    subprocess.run(["apt-get", "-q", "download", "vsftpd"], cwd=folder, check=True, capture_output=True, timeout=120)
    (package,) = folder.glob("vsftpd*.deb")
    subprocess.run(["dpkg", "-x", package, folder], check=True, capture_output=True, timeout=60)


@contextmanager
def users(guests: Sequence[Guest]) -> Iterator[None]:
    """The accounts as users of the system."""
    try:
        for each in guests:
            words = ["useradd", "--no-create-home", "--home-dir", str(each.folder), "--password", hashed(each)]
            subprocess.run([*words, "--shell", "/bin/sh", each.user], check=True, capture_output=True, timeout=30)
            subprocess.run(["chown", "-R", each.user, each.folder], check=True, timeout=30)
        yield
    finally:
        for each in guests:
            subprocess.run(["userdel", each.user], check=False, capture_output=True, timeout=30)


def daemon(
    topology: Topology, service: Service, folder: Path, files: Path, served: Path, further: dict[str, str]
) -> Start:
    """Write its configuration into a new folder; the task starts it. ``further`` are settings that count before."""
    folder.mkdir(mode=0o711)
    (folder / "empty").mkdir(mode=0o755)
    settings = {**_settings(topology, service, folder, served), **further}
    configuration = folder / "vsftpd.conf"
    configuration.write_text("".join(f"{key}={value}\n" for key, value in settings.items()))
    configuration.chmod(0o600)
    os.chown(configuration, 0, 0)
    address = str(topology.server.addresses.each[0])
    port = int(settings["listen_port"])
    return Start((str(files / "usr/sbin/vsftpd"), str(configuration)), address, port, folder / "out")


def _settings(topology: Topology, service: Service, folder: Path, served: Path) -> dict[str, str]:
    passive, active = service.passive or Passive(), service.active or Active()
    low, high = passive.ports.spans[0]
    found = {
        "listen": "YES", "listen_port": str(service.control_port.number), "background": "NO", "local_enable": "YES",
        "anonymous_enable": "NO", "write_enable": "YES", "pam_service_name": "other", "seccomp_sandbox": "NO",
        "isolate": "NO", "isolate_network": "NO", "secure_chroot_dir": f"{folder}/empty", "chroot_local_user": "YES",
        "allow_writeable_chroot": "YES", "pasv_min_port": str(low), "pasv_max_port": str(high), "use_localtime": "YES",
        "connect_from_port_20": "YES" if active.from_port else "NO", "xferlog_enable": "YES", "dual_log_enable": "YES",
        "vsftpd_log_file": f"{folder}/log", "xferlog_file": f"{folder}/transfers",
        "port_promiscuous": "YES" if active.accepts_other_address else "NO",
    }  # fmt: skip
    if not passive.announce.own:
        found |= {"pasv_address": str(next(iter(resolved(topology, passive.announce).of_family(4))))}
    if service.tls.mode != "none":
        demanded = "YES" if service.tls.required else "NO"
        found |= {"ssl_enable": "YES", "rsa_cert_file": str(served), "rsa_private_key_file": str(served)}
        found |= {"force_local_logins_ssl": demanded, "force_local_data_ssl": demanded, "ssl_tlsv1": "YES"}
        found |= {"require_ssl_reuse": "YES" if service.tls.reuse_required else "NO"}
        found |= {"implicit_ssl": "YES" if service.tls.mode == "implicit" else "NO"}
    return found
