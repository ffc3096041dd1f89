"""The text of ``nft list ruleset``, in the words of its JSON (public interface of nftables and of libnftables), so that
one reader understands both. It has more than the JSON: what the older filter's extensions ask for stands in it.

The text is what the command prints, one statement after the other. A word that is not known here ends what is
understood of its rule: what such a rule does is unknown, for whatever it asked before.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec

from ...damage import guarded
from ...reading import bad_file
from .fields import TCP_FLAGS

Item = dict[str, Any]
_TOKEN = re.compile(r"\"[^\"\n]*\"|[{}(),;|\n]|[^\s{}(),;|\"]+")
_TABLE = re.compile(r"table (?:ip|ip6|inet|bridge|arp|netdev) \S+ \{")
_PRIORITIES = {"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100}
_PROTOCOLS = ("ip", "ip6", "tcp", "udp", "udplite", "sctp", "dccp", "th", "icmp", "icmpv6", "igmp", "ah", "esp", "comp",
              "ether", "vlan", "arp")  # fmt: skip
_METAS = ("iif", "iifname", "iiftype", "oif", "oifname", "oiftype", "skuid", "skgid", "mark", "l4proto", "nfproto",
          "protocol", "pkttype", "priority", "cpu", "iifgroup", "oifgroup", "cgroup", "length", "day", "hour", "time",
          "ibrname", "obrname", "iifkind", "oifkind", "random", "rtclassid", "secmark", "nftrace")  # fmt: skip
_HEADERS = ("frag", "hbh", "dst", "mh")
_COMPARES = ("==", "!=", "<", ">", "<=", ">=", "!", "eq", "ne", "lt", "gt", "le", "ge")
_LONG_COMPARES = {"eq": "==", "ne": "!=", "lt": "<", "gt": ">", "le": "<=", "ge": ">="}
_ENDS = ("\n", ";", "}", "")
_VERDICTS = ("accept", "drop", "return", "reject", "jump", "goto", "continue", "notrack")
_OPTIONS: dict[str, dict[str, int]] = {
    "counter": {"packets": 1, "bytes": 1, "name": 1},
    "log": {"prefix": 1, "level": 1, "group": 1, "snaplen": 1, "queue-threshold": 1, "flags": 1, "sequence": 0,
            "options": 0, "ether": 0, "skuid": 0, "all": 0},
    "limit": {"rate": 1, "over": 1, "burst": 2},
    "quota": {"over": 2, "until": 2, "used": 2},
    "masquerade": {"to": 1, "random": 0, "fully-random": 0, "persistent": 0},
    "redirect": {"to": 1, "random": 0, "fully-random": 0, "persistent": 0},
}  # fmt: skip
"""What may stand behind a statement, with the number of words behind each."""
_UNIT = re.compile(r"[km]?bytes(?:/\w+)?|\d+(?:/\w+)?")
_OLDER_CHAIN = re.compile(r"\n\s*chain (?:INPUT|FORWARD|OUTPUT|PREROUTING|POSTROUTING) \{")
_OLDER_TABLES = ("filter", "nat", "mangle", "raw", "security")
_SKIPPED_BLOCKS = ("counter", "quota", "limit", "secmark", "synproxy", "flowtable")


class _Unread(ValueError):
    """A word that is not known."""


def is_ruleset(text: str) -> bool:
    """Whether a text is what the command prints, as JSON or for people."""
    lines = (line.strip() for line in text[:5000].splitlines())
    first = next((line for line in lines if line and not line.startswith("#")), "")
    return _TABLE.match(first) is not None or (first.startswith("{") and '"nftables"' in text[:200])


@guarded
def items_of_nft(file: str, text: str) -> list[Item]:
    """The chains, rules and sets that a rule set has, of its JSON or its text. Raises BadInput."""
    is_text = not text.lstrip().startswith("{")
    reading = _Listing(text if is_text else "")
    try:
        if is_text:
            return [{"metainfo": {}}, *reading.tables()]
        return _with_blocks(msgspec.json.decode(text)["nftables"])
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError, IndexError) as error:
        if not is_text:
            why = f"found no whole rule set ({error!r:.80}); expected what nft -j list ruleset prints"
            raise bad_file(file, why) from None
        what = f"“{reading.next[:40]}”" if reading.next else "its end in the middle of a table"
        raise bad_file(file, f"found {what}; expected what nft list ruleset prints, whole", reading.line) from None


def _with_blocks(items: Sequence[Item]) -> list[Item]:
    """The same items where the JSON has chains without names as text: each as a chain of its own."""
    found: list[Item] = []
    for each in items:
        rule = each.get("rule")
        if rule is None or not any(isinstance(one, str) for one in rule["expr"]):
            found.append(each)
            continue
        expressions = []
        for at, one in enumerate(rule["expr"]):
            if isinstance(one, str):
                inside = f"{rule['chain']} {rule.get('handle')}.{at} "
                one, made = _Listing(one, rule["family"], rule["table"], inside).block()
                found += made
            expressions.append(one)
        found.append({"rule": {**rule, "expr": expressions}})
    return found


class _Listing:
    """The words of a listing, read from left to right."""

    def __init__(self, text: str, family: str = "", table: str = "", inside: str = "") -> None:
        self._is_older = _OLDER_CHAIN.search(text) is not None
        lines = (re.sub(r"\A\s*#.*|\s# [^\"]*\Z", "", each) for each in text.splitlines())
        self._words: list[str] = [each for line in lines for each in (*_TOKEN.findall(line), "\n")]
        self._at = self._inner = 0
        self._family, self._table, self._inside = family, table, inside
        self._made: list[Item] = []

    @property
    def next(self) -> str:
        """The word that comes next, empty at the end."""
        return self._words[self._at] if self._at < len(self._words) else ""

    @property
    def line(self) -> int:
        """The line of that word."""
        return self._words[: self._at].count("\n") + 1

    def _take(self) -> str:
        word = self._words[self._at]
        self._at += 1
        return word

    def _taken(self, *words: str) -> bool:
        """Whether these words come next; they are passed by then."""
        if tuple(self._words[self._at : self._at + len(words)]) != words:
            return False
        self._at += len(words)
        return True

    def _expect(self, word: str) -> None:
        if not self._taken(word):
            raise ValueError(word)

    def _closed(self) -> bool:
        """Whether a block ends here, which is passed by then. Raises ValueError where the listing ends before it."""
        if not self.next:
            raise ValueError("its end within a block")
        return self._taken("}")

    def _skip_breaks(self) -> None:
        while self.next in ("\n", ";"):
            self._at += 1

    def _rest(self) -> list[str]:
        """The words of a rule that are not understood, with whole blocks among them."""
        found: list[str] = []
        while self.next not in _ENDS:
            if self.next == "{":
                self._skip_block()
            else:
                found.append(self._take())
        return found

    def _skip_block(self) -> None:
        self._expect("{")
        depth = 1
        while depth:
            depth += {"{": 1, "}": -1}.get(self._take(), 0)

    def block(self) -> tuple[Item, list[Item]]:
        """A statement that leads to a chain without a name, and the chain."""
        return self._statement(), self._made

    def tables(self) -> Iterator[Item]:
        """All that the listing has."""
        self._skip_breaks()
        while self.next:
            self._expect("table")
            self._family, self._table = self._take(), self._take()
            yield from self._of_table()
            self._skip_breaks()

    def _of_table(self) -> Iterator[Item]:
        flags: list[str] = []
        found: list[Item] = []
        self._expect("{")
        while not self._closed():
            word = self._take()
            if word == "chain":
                found += self._chain(self._take())
            elif word in ("set", "map"):
                found.append(self._set(word, self._take()))
            elif word == "ct" and self.next == "helper":
                found.append(self._helper())
            elif word == "flags":
                flags = [each for each in self._rest() if each != ","]
            elif word in _SKIPPED_BLOCKS or word == "ct":
                while self.next != "{":
                    self._take()
                self._skip_block()
            elif word == "comment":
                self._take()
            elif word not in ("\n", ";"):
                self._at -= 1
                raise ValueError(word)
        yield {"table": {"family": self._family, "name": self._table, **({"flags": flags} if flags else {})}}
        yield from found

    def _named(self, name: str) -> Item:
        return {"family": self._family, "table": self._table, "name": name}

    def _helper(self) -> Item:
        self._expect("helper")
        made = self._named(self._take())
        self._expect("{")
        while not self._closed():
            if self._take() == "type":
                made["type"] = self._take().strip('"')
        return {"ct helper": made}

    def _set(self, kind: str, name: str) -> Item:
        made = self._named(name)
        self._expect("{")
        while not self._closed():
            word = self._take()
            if word == "elements":
                self._expect("=")
                made["elem"] = self._elements()
            elif word == "flags":
                made["flags"] = [each for each in self._rest() if each != ","]
            elif word not in ("\n", ";"):
                self._rest()
        return {kind: made}

    def _elements(self) -> list[Any]:
        """``{ 21, 61200-61455 : accept }``: values, or pairs of a key and what it leads to."""
        self._expect("{")
        found: list[Any] = []
        while not self._closed():
            if self.next in ("\n", ","):
                self._at += 1
                continue
            key = self._element()
            if self._taken(":"):
                found.append([key, self._led_to()])
            else:
                found.append(key)
        return found

    def _led_to(self) -> Any:
        if self.next in ("accept", "drop", "return", "continue", "jump", "goto"):
            return self._statement()
        return self._element()

    def _element(self) -> Any:
        """One value, or several that are joined, without what is counted or noted of them."""
        parts = [self._value()]
        while self._taken("."):
            parts.append(self._value())
        while self.next not in (",", "}", ":", "\n"):
            if self._take() == "{":
                self._at -= 1
                self._skip_block()
        return {"concat": parts} if len(parts) > 1 else parts[0]

    def _value(self) -> Any:
        if self.next in (*_VERDICTS, *_ENDS, "{"):
            raise _Unread(self.next)
        if self.next.startswith("$"):
            raise ValueError("a variable, as rules have that were not loaded")
        return _plain(self._take())

    def _chain(self, name: str) -> list[Item]:
        chain = self._named(name)
        rules: list[Item] = []
        self._expect("{")
        while not self._closed():
            if self.next in ("\n", ";"):
                self._at += 1
            elif self._taken("type"):
                self._based(chain)
            elif self._taken("policy"):
                chain["policy"] = self._take()
            elif self._taken("comment"):
                self._take()
            else:
                rules.append(self._rule(name))
        made, self._made = self._made, []
        return [{"chain": chain}, *made, *rules]

    def _based(self, chain: Item) -> None:
        """``filter hook input priority filter + 5``."""
        chain["type"] = self._take()
        self._expect("hook")
        chain["hook"] = self._take()
        if self._taken("device"):
            chain["dev"] = self._take().strip('"')
        elif self._taken("devices", "="):
            chain["dev"] = [str(each) for each in self._elements()]
        self._expect("priority")
        first, *more = self._rest()
        if first not in _PRIORITIES and not re.fullmatch(r"-?\d+", first):
            raise ValueError(first)
        offset = int("".join(more)) if more else 0
        chain["prio"] = (_PRIORITIES[first] if first in _PRIORITIES else int(first)) + offset

    def _rule(self, chain: str) -> Item:
        line, expressions, comment = self.line, list[Item](), ""
        while self.next not in _ENDS:
            if self._taken("comment"):
                comment = self._take().strip('"')
                continue
            at = self._at
            try:
                expressions.append(self._statement())
            except _Unread:
                self._at = at
                expressions.append({" ".join(self._rest())[:60]: None})
        rule: Item = {"family": self._family, "table": self._table, "chain": chain, "line": line, "expr": expressions}
        return {"rule": {**rule, "comment": comment} if comment else rule}

    def _statement(self) -> Item:
        """One statement. Raises _Unread for what is none that is known."""
        word = self._take()
        match word:
            case "accept" | "drop" | "return" | "continue" | "notrack":
                return {word: None}
            case "jump" | "goto":
                return {word: {"target": self._block() if self.next == "{" else self._take()}}
            case "reject":
                return {"reject": self._refusal() if self._taken("with") else None}
            case "flow" | "dup":
                self._rest()
                return {word: None}
            case "xt":
                kind, name = self._take(), self._take().strip('"')
                return {"xt": {"type": kind, "name": name}}
            case "counter" | "log" | "limit" | "quota":
                self._pass_by(_OPTIONS[word])
                return {word: None}
            case "dnat" | "snat":
                return {word: self._target()}
            case "masquerade" | "redirect":
                self._pass_by(_OPTIONS[word])
                return {word: None}
            case "add" | "update" | "delete":
                name = self._take()
                limited = self._inside_block()
                return {"set": {"op": word, "set": name, **({"stmt": [None]} if limited else {})}}
            case "meter":
                self._take()
                self._pass_by({"size": 1})
                self._skip_block()
                return {"meter": None}
            case "ct" if self.next in ("helper", "count", "timeout", "expectation"):
                return self._of_connection()
        self._at -= 1
        return self._asked()

    def _of_connection(self) -> Item:
        word = self._take()
        if word == "count":
            self._pass_by({"over": 0})
            self._take()
            return {"ct count": None}
        if self._taken("set"):
            return {f"ct {word}": self._take().strip('"')}
        return self._compared({"ct": {"key": word}})

    def _block(self) -> str:
        """A chain without a name, in its place: it is given one that none has."""
        self._inner += 1
        name = f"{self._inside}#{self._inner}"
        seen, self._made = self._made, []
        made = self._chain(name)
        self._made = [*seen, *made]
        return name

    def _inside_block(self) -> bool:
        """Whether a block holds more than the field that is added: a limit, say."""
        begins = self._at
        self._skip_block()
        words = self._words[begins : self._at]
        return bool({"limit", "quota", "ct count", "count"} & set(words))

    def _pass_by(self, options: Mapping[str, int]) -> None:
        """Options of a statement that decide nothing here, each with as many words behind it."""
        while self.next in options or self.next == "," or _UNIT.fullmatch(self.next):
            for _ in range(1 + options.get(self.next, 0)):
                self._take()

    def _refusal(self) -> Item:
        kind = self._take()
        if kind == "tcp":
            self._expect("reset")
            return {"type": "tcp reset"}
        self._taken("type")
        return {"type": kind, "expr": self._value()}

    def _target(self) -> Item:
        """``ip to 10.61.4.20:61200-61455 random``, ``to tcp dport map @ports``."""
        if self.next in ("ip", "ip6"):
            self._take()
        if not self._taken("to"):
            raise _Unread
        words = self._rest_of_target()
        if len(words) != 1:
            return self._mapped(words)
        address, port = _address_and_port(words[0])
        return {"addr": address, **({"port": port} if port is not None else {})}

    def _rest_of_target(self) -> list[str]:
        at, found = self._at, list[str]()
        while self.next not in (*_ENDS, "comment", "{"):
            found.append(self._take())
        if "map" in found:
            self._at = at
            return found
        return [each for each in found if each not in ("random", "fully-random", "persistent", ",")]

    def _mapped(self, words: Sequence[str]) -> Item:
        """A target that hangs on a field: its words are read once more."""
        if "map" not in words:
            raise _Unread
        key = self._field()
        if not self._taken("map"):
            raise _Unread
        data = self._take() if self.next.startswith("@") else {"set": self._elements()}
        return {"addr": {"map": {"key": key, "data": data}}}

    def _asked(self) -> Item:
        """A field and what it is asked for, or what is written into it."""
        return self._compared(self._field())

    def _compared(self, left: Item) -> Item:
        if self._taken("set"):
            return {"mangle": {"key": left, "value": self._expression()}}
        if self._taken("vmap"):
            data = self._take() if self.next.startswith("@") else {"set": self._elements()}
            return {"vmap": {"key": left, "data": data}}
        op = self._take() if self.next in _COMPARES else ""
        right = self._right()
        if self._taken("/"):  # flags that are set, of those that are looked at
            return {"match": {"op": op or "==", "left": {"&": [left, self._right()]}, "right": right}}
        if right == "dnat" and self._is_older and self._table in _OLDER_TABLES:
            # the command leaves out states beside it when it shows a rule of the older filter
            return {"xt": {"type": "match", "name": "conntrack"}}
        if not op:
            of_bits = left == TCP_FLAGS or ("ct" in left and left["ct"].get("key") in ("state", "status"))
            op = "in" if of_bits else "=="
        return {"match": {"op": _LONG_COMPARES.get(op, op), "left": left, "right": right}}

    def _right(self) -> Any:
        if self.next == "{":
            return {"set": self._elements()}
        if self.next in ("exists", "missing"):
            return self._take() == "exists"
        found = [self._joined()]
        while self._taken(","):
            found.append(self._joined())
        return found if len(found) > 1 else found[0]

    def _joined(self) -> Any:
        """A value, or several that a concatenation is asked for."""
        if self._taken("("):
            found = [self._value()]
            while self._taken("|"):
                found.append(self._value())
            self._expect(")")
            return found
        parts = [self._value()]
        while self._taken("|"):
            parts.append(self._value())
        if len(parts) > 1:
            return parts
        while self._taken("."):
            parts.append(self._value())
        return {"concat": parts} if len(parts) > 1 else parts[0]

    def _field(self) -> Item:
        """What is asked for: a field, several that are joined, or some of its bits."""
        parts = [self._single()]
        while self._taken("."):
            parts.append(self._single())
        left: Item = {"concat": parts} if len(parts) > 1 else parts[0]
        while self.next in ("&", "and", "|", "or", "^", "xor"):
            word = {"and": "&", "or": "|", "xor": "^"}.get(self.next, self.next)
            self._take()
            left = {word: [left, self._joined()]}
        return left

    def _expression(self) -> Any:
        """What is written: a value, or a field with some of its bits changed."""
        if self._taken("rt"):
            return {"rt": self._take()}
        if self.next in ("ct", "meta", "mark"):
            return self._field()
        return self._value()

    def _single(self) -> Item:
        word = self._take()
        if word == "meta" or word in _METAS:
            return {"meta": {"key": self._take() if word == "meta" else word}}
        if word == "ct":
            found = [self._take()]
            if found[0] in ("original", "reply"):
                found += [self._take(), *([self._take()] if self._words[self._at - 1] in ("ip", "ip6") else [])]
            return {"ct": {"key": " ".join(found)}}
        if word == "tcp" and self._taken("option"):
            name = self._take()
            return {"tcp option": {"name": name, **({"field": self._take()} if self.next == "size" else {})}}
        if word in _PROTOCOLS:
            return {"payload": {"protocol": word, "field": self._take()}}
        if word == "fib":
            flags = [self._take()]
            while self._taken("."):
                flags.append(self._take())
            return {"fib": {"result": self._take(), "flags": flags}}
        if word == "exthdr" or word in _HEADERS or word == "rt":
            return {"exthdr": {"name": self._take()}}
        if word == "socket":
            return {"socket": {"key": self._take()}}
        raise _Unread(word)


def _plain(word: str) -> Any:
    """A number, a range, a prefix or a word, as the JSON has it."""
    if re.fullmatch(r"\d+|0x[0-9a-fA-F]+", word):
        return int(word, 0)
    if word.startswith('"'):
        return word.strip('"')
    low, dash, high = word.partition("-")
    if dash and low.isdecimal() and high.isdecimal():
        return {"range": [int(low), int(high)]}
    address, slash, length = word.partition("/")
    if slash and length.isdecimal():
        return {"prefix": {"addr": address, "len": int(length)}}
    if dash and ("." in low or ":" in low):
        return {"range": [low, high]}
    return word


def _address_and_port(word: str) -> tuple[Any, Any]:
    """``10.61.4.20:21``, ``[2001:db8::1]:21``, ``10.61.4.20-10.61.4.22``."""
    found = re.fullmatch(r"\[([^\]]*)\](?::(.*))?", word) or re.fullmatch(r"([0-9.-]*):([0-9-]*)", word)
    address, port = (found[1], found[2]) if found else (word, None)
    return _plain(address), _plain(port) if port else None
