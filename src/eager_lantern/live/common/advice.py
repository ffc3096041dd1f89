"""The sentence that an administrator needs next, for each way in which a rung fails."""

from ...core.values.outcomes import Outcome, Rung

_ADVICE: dict[tuple[Rung, Outcome], str] = {
    ("name", "wrong"): "Check the spelling and the DNS entry; meanwhile visit the address instead of the name.",
    ("name", "silent"): "The resolver does not answer: visit the address instead of the name.",
    ("connect", "refused"): "The host answers but the port is closed: is the server running and listening on this "
    "port, and does the forward lead to this host?",
    ("connect", "silent"): "Nothing answers. Try on the server itself, then on its network: where it begins to hang, "
    "a filter or a missing forward is to blame; `check` names the line.",
    ("connect", "unknown"): "This machine itself has no way to that address.",
    ("greet", "silent"): "The port opens but nobody greets: implicit TLS on this port, another program, or a server "
    "that waits for a name look-up of this machine.",
    ("greet", "wrong"): "Another program answers on this port: compare the control port and its forward.",
    ("greet", "refused"): "The server is there and sends clients away: too many sessions, or this address is barred.",
    ("secure", "refused"): "The server offers no TLS: switch it on there and give it a certificate. `--security none` "
    "would send the password in clear.",
    ("secure", "silent"): "The handshake hangs: a device on the way inspects or blocks TLS on this port, or full "
    "packets, which a certificate needs, are too large for the way (let the narrowest line clamp the MSS).",
    ("secure", "wrong"): "Give the server a certificate for the name that users type; `--trust FILE` accepts one that "
    "is not publicly signed, `--any-certificate` skips the question for this visit.",
    ("host-key", "wrong"): "Do not go on before you know why: ask the server's administrator for its fingerprint, by "
    "another way than this connection. The password was not sent.",
    ("login", "refused"): "The network is fine up to here; this is about the account: name, password, its state, and "
    "whether it may use file transfer.",
    ("login", "silent"): "The server took the name or password and does not answer: look at its log and at what it "
    "asks for accounts.",
    ("announce", "refused"): "The server does not do this mode: switch it on there, or try the other mode.",
    ("announce", "wrong"): "Set the announced address of the server to the outside one for outside clients.",
    ("announce", "silent"): "The server does not answer the request for a data port: an inspecting device on the way "
    "may have swallowed it.",
    ("data", "silent"): "Login works and data hangs: this port is not let through. Compare the passive range on the "
    "server, its firewall, the router's forwards and the cloud filter.",
    ("data", "refused"): "The port answers no: the forward leads to another host or port, or the firewall refuses it.",
    ("data", "wrong"): "Something else answers on the data port: compare the forwarded range with the server's.",
    ("list", "refused"): "The data connection opens but listing is refused: the account's folder or its rights, or "
    "TLS on the data connection.",
    ("list", "wrong"): "The listing breaks off, has no end, or holds names that lead elsewhere: fetch nothing before "
    "you know why; the server's log of this moment tells.",
    ("list", "silent"): "The data connection opens and nothing comes: a device in between may hold it back.",
    ("send", "refused"): "The account may not write here: if it ought to, give it the right and a folder it owns.",
    ("send", "silent"): "Short messages pass and a longer transfer stalls: full packets may be too large for the way. "
    "Let the device with the narrowest line (tunnel, PPPoE) clamp the MSS; else see whether the disk is full.",
    ("fetch", "silent"): "Sending works and fetching stalls: full packets from the server may be too large for the "
    "way. Let the device with the narrowest line (tunnel, PPPoE) clamp the MSS.",
    ("fetch", "wrong"): "What comes back is not what was sent: a device or setting changes contents on the way.",
    ("fetch", "refused"): "The account may write but not read; that may be what you want for uploads.",
    ("tidy", "refused"): "The account may not delete: remove the file by hand.",
}


_ANYWHERE: dict[Outcome, str] = {
    "refused": "The server answers no: its log at this moment says why.",
    "silent": "The server stops answering here: look at its log, and at what stands on the way.",
    "wrong": "The server hangs up here or says what makes no sense: look at its log at this moment, and whether it or "
    "a device on the way was restarted.",
    "unknown": "This could not be tried from here.",
}


def advice_for(rung: Rung, outcome: Outcome) -> str:
    """What to do next; empty where nothing failed."""
    return _ADVICE.get((rung, outcome)) or _ANYWHERE.get(outcome, "")
