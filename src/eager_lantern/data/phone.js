"use strict";
// The page's part of a test: asks every port of the host that it came from, and shows what became of each.
const plan = JSON.parse(document.getElementById("plan").textContent);
const REPORT_MS = 700, KNOCK_MS = 3000, KNOCKS = 100, MOST_LOST = 3, MOST_SPANS = 6;
const ROWS = [
  ["arrives", "● arrive"], ["refused", "◆ refused"], ["silent", "◆ no answer"], ["waiting", "◌ not tried yet"],
];
const element = (id) => document.getElementById(id);
const pause = (ms) => new Promise((done) => setTimeout(done, ms));
let restart = "";

function spans(ports) { // ascending ports as ranges
  const found = [];
  for (const port of ports) {
    const last = found[found.length - 1];
    if (last && last[1] === port - 1) last[1] = port; else found.push([port, port]);
  }
  return found;
}

function named(ports) {
  const every = spans(ports).map(([low, high]) => (low === high ? `${low}` : `${low}-${high}`));
  const rest = every.length - MOST_SPANS;
  return rest > 0 ? `${every.slice(0, MOST_SPANS).join(", ")} and ${rest} more` : every.join(", ");
}

function cell(row, kind, text, className) {
  const made = row.appendChild(document.createElement(kind));
  made.textContent = text;
  if (className) made.className = className;
  return made;
}

function drawn(fates, asked) { // a row for each fate that some port has, and for those that arrive in any case
  const order = [...asked].sort((a, b) => a - b);
  const place = new Map(order.map((port, i) => [port, i]));
  const body = element("ledger").tBodies[0];
  body.replaceChildren();
  for (const [name, label] of ROWS) {
    const ports = order.filter((port) => (fates.get(port) || "waiting") === name);
    if (!ports.length && name !== "arrives") continue;
    const head = body.insertRow(), bar = body.insertRow(), list = body.insertRow();
    head.className = bar.className = list.className = name;
    bar.classList.add("bar");
    list.classList.add("ports");
    cell(head, "th", label).scope = "row";
    cell(head, "td", `${ports.length} of ${order.length}`, "count");
    const room = cell(bar, "td", "");
    room.colSpan = 2;
    const picture = room.appendChild(document.createElementNS("http://www.w3.org/2000/svg", "svg"));
    picture.setAttribute("viewBox", `0 0 ${order.length} 1`);
    picture.setAttribute("preserveAspectRatio", "none");
    picture.setAttribute("aria-hidden", "true");
    for (const [low, high] of spans(ports.map((port) => place.get(port)))) {
      const piece = picture.appendChild(document.createElementNS("http://www.w3.org/2000/svg", "rect"));
      piece.setAttribute("x", low);
      piece.setAttribute("width", high - low + 1);
      piece.setAttribute("height", 1);
    }
    cell(list, "td", named(ports) || "none").colSpan = 2;
  }
}

async function asked(url, options, patience) { // what an address answers; "silent" or "refused" where it does not
  const ending = new AbortController();
  const timer = setTimeout(() => ending.abort(), patience);
  try {
    const answer = await fetch(url, {...options, signal: ending.signal, cache: "no-store", credentials: "omit"});
    return await answer.json();
  } catch {
    return ending.signal.aborted ? "silent" : "refused";
  } finally {
    clearTimeout(timer);
  }
}

function posted(path, body) {
  return asked(path, {method: "POST", body: JSON.stringify(body)}, 10000);
}

async function tried(ports, sweep, fates) { // a bounded number of them at once
  const waiting = [...ports];
  const worker = async () => {
    while (waiting.length && !sweep.lost) {
      const port = waiting.shift();
      const found = await asked(`http://${location.hostname}:${port}/${sweep.key}/here`, {mode: "cors"}, sweep.patience * 1000);
      if (!sweep.lost) fates.set(port, typeof found === "string" ? found : "arrives");
    }
  };
  await Promise.all(Array.from({length: sweep.at_once}, worker));
}

function reported(sweep, fates, done) {
  const of = (fate) => [...fates].filter((each) => each[1] === fate).map((each) => each[0]);
  return posted(`/${sweep.key}/fates`, {refused: of("refused"), silent: of("silent"), done});
}

async function watched(sweep, fates) { // says now and then how far it is, here and to the lamp
  let failed = 0;
  while (!sweep.through && !sweep.lost) {
    drawn(fates, sweep.ports);
    element("progress").textContent = `${fates.size} of ${sweep.ports.length} ports tried`;
    failed = typeof (await reported(sweep, fates, false)) === "string" ? failed + 1 : 0;
    sweep.lost = failed >= MOST_LOST;
    await Promise.race([pause(REPORT_MS), sweep.ended]);
  }
}

function trouble(text) {
  element("trouble").textContent = `◆ ${text}`;
  element("trouble").hidden = false;
}

const STANDS = {
  outside: (address) => `● This phone came from outside. Its address there is ${address}.`,
  inside: (address) => `▲ This was no test from outside: the phone is on the server’s own network (it came as ${address}). Turn Wi-Fi off and start again.`,
  hairpin: (address) => `▲ This was no test from outside: the phone is behind the same router as the server, which turned it back (it came as ${address}). Turn Wi-Fi off and start again.`,
  unknown: (address) => `◌ This phone came as ${address}. Whether that is outside cannot be known.`,
};

function shown(result, sweep) { // the end, as the lamp has it
  const fates = new Map();
  for (const [name] of ROWS) for (const port of result[name] || []) fates.set(port, name);
  drawn(fates, sweep.ports);
  const count = sweep.ports.length, lost = count - result.arrives.length;
  element("verdict").textContent = !lost ? `● All ${count} ports that were tried arrive`
    : lost === count ? "◆ None of the ports arrives" : `◆ ${lost} of ${count} ports do not arrive`;
  element("progress").textContent = "";
  element("stands").textContent = STANDS[result.stands](result.address);
  element("stands").className = result.stands === "outside" ? "" : "doubt";
  element("stands").hidden = false;
  const moved = Object.entries(result.moved);
  element("moved").hidden = !moved.length;
  element("moved").textContent = `▲ ${moved.length} ${moved.length === 1 ? "port arrives" : "ports arrive"} as another: ` +
    moved.slice(0, MOST_SPANS).map(([from, to]) => `${from} as ${to}`).join(", ");
  element("after").hidden = false;
}

async function knocked(sweep) { // whether a connection came to the port where no browser goes
  for (let i = 0; element("knock") && i < KNOCKS && restart === sweep.key; i += 1) {
    const result = await posted(`/${sweep.key}/fates`, sweep.final);
    if (result.knocks) {
      element("knock").textContent = `● A connection has come to port ${plan.control} from this phone’s address.`;
      return;
    }
    await pause(KNOCK_MS);
  }
}

async function swept() {
  const button = element("start");
  button.disabled = true;
  button.textContent = "The test is running …";
  for (const id of ["trouble", "before", "stands", "after"]) element(id).hidden = true;
  const sweep = await posted(restart ? `/${restart}/begin` : `${location.pathname}/begin`, {});
  if (typeof sweep === "string") {
    trouble("This address has been used, or its time is over. Ask for a new one.");
    button.hidden = true;
    return;
  }
  const fates = new Map();
  sweep.ended = new Promise((done) => { sweep.end = done; });
  element("during").hidden = false;
  element("verdict").textContent = "Trying the ports …";
  const watching = watched(sweep, fates);
  await tried(sweep.ports, sweep, fates);
  await tried(sweep.ports.filter((port) => fates.get(port) !== "arrives"), sweep, fates);
  sweep.through = true;
  sweep.end();
  await watching;
  const result = await reported(sweep, fates, true);
  if (typeof result === "string") {
    trouble("The connection to the server was lost during the test. What is not shown as tried is not known.");
  } else {
    const of = (fate) => [...fates].filter((each) => each[1] === fate).map((each) => each[0]);
    sweep.final = {refused: of("refused"), silent: of("silent"), done: true};
    shown(result, sweep);
  }
  restart = sweep.key;
  button.disabled = false;
  button.textContent = "Test again";
  document.documentElement.dataset.through = "yes";
  if (typeof result !== "string") await knocked(sweep);
}

element("start").addEventListener("click", swept);
