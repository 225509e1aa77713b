// Let a Jokulmist training step your game: a client kit in one file without dependencies, for browsers and Node.
//
//   serve({ name: "Float", observation: { depth: { low: -3, high: 3 } }, action: { kind: "choice", labels: ["down", "up"] },
//           terms: { calm: 1 }, endings: ["sunk"], time_limit: 50 }, () => new Float(), { arenas: 8 });
//
// An arena has begin(seed, parameters) and advance(action). Both give { observation: {...} }, and advance also terms, closed_by, measures; see docs/protocol.md. Either may
// give a promise of it, as a game does that steps by its own frames: the arenas of a request then advance side by side.
// In Node it goes to the address in JOKULMIST_ADDRESS, where a training has started it, or listens at { port }. In a browser it goes to { address, secret }.

export const PROTOCOL = 1;

/** One arena's part of columns. */
export function entryOf(columns, k) {
  if (Array.isArray(columns)) return columns[k];
  const found = {};
  for (const name in columns) found[name] = entryOf(columns[name], k);
  return found;
}

/** A list of objects as an object of lists. */
export function columnsOf(told) {
  const found = {}, nested = [];
  for (let k = 0; k < told.length; k++) {
    const one = told[k];
    for (const name in one) {
      const value = one[name];
      if (value == null || name === "closed_by") continue;
      let column = found[name];
      if (column === undefined) {
        const inner = typeof value === "object" && !Array.isArray(value) && !ArrayBuffer.isView(value);
        const missing = name === "legal" || name === "turn" || name === "out" ? null : 0;
        column = found[name] = Array.from({ length: told.length }, inner ? () => ({}) : () => missing);
        if (inner) nested.push(name);
      }
      column[k] = value;
    }
  }
  for (const name of nested) found[name] = columnsOf(found[name]);
  return found;
}

/** Where the image channels are, in the order of declaration: by name, or by player and name. */
export function imagePaths(observation, outer = []) {
  return Object.entries(observation).flatMap(([name, told]) => told.image === true ? [[...outer, name]]
    : Object.values(told).some(part => part !== null && typeof part === "object" && !Array.isArray(part)) ? imagePaths(told, [...outer, name]) : []);
}

/** What one connection asks, answered; no transport. */
export class Talk {
  constructor(described, make, arenas, { secret = "", asked = "" } = {}) {
    this.described = { ...described, arenas };
    this.arenas = Array.from({ length: arenas }, (_, k) => make(k));
    this.secret = secret; // told to the training
    this.asked = asked; // asked of the training
    this.letIn = !asked;
    this.images = imagePaths(described.observation);
    this.last = Promise.resolve();
  }

  /** The frames that answer a request, JSON and images after it, once those before it are answered. */
  answer(text) {
    this.last = this.last.then(() => this.answered(text));
    return this.last;
  }

  async answered(text) {
    let id = null;
    try {
      const request = JSON.parse(text);
      id = request.id;
      const [result, frames] = await this.done(request.method, request.params ?? {});
      return [JSON.stringify({ jsonrpc: "2.0", id, result }), ...frames];
    } catch (failure) {
      return [JSON.stringify({ jsonrpc: "2.0", id, error: { code: -32000, message: String(failure?.message ?? failure) } })];
    }
  }

  async done(method, params) {
    if (method === "hello") {
      if (params.protocol !== PROTOCOL) throw new Error(`this program speaks protocol ${PROTOCOL}`);
      this.letIn ||= params.secret === this.asked;
      if (!this.letIn) throw new Error("another secret is asked for");
      return [{ protocol: PROTOCOL, secret: this.secret, ...this.described }, []];
    }
    if (!this.letIn) throw new Error("say hello first");
    if (method === "begin") {
      const told = await Promise.all(params.arenas.map((arena, k) => this.arenas[arena].begin(params.seeds[k], params.parameters?.[k] ?? {})));
      return this.columns(told);
    }
    if (method === "advance") {
      const told = params.arenas.map(() => null), moments = [], frames = [];
      for (let turn = 0; turn < (params.times ?? 1); turn++) {
        await Promise.all(params.arenas.map(async (arena, k) => {
          if (!told[k]?.closed_by) told[k] = await this.arenas[arena].advance(entryOf(params.actions, k));
        }));
        const [moment, images] = this.columns(told);
        moments.push(moment);
        frames.push(...images);
        if (told.every(one => one.closed_by)) break;
      }
      return [moments.length === 1 ? moments[0] : moments, frames];
    }
    if (method === "image") {
      const { shape, data } = await this.arenas[params.arena].image();
      return [{ shape }, [data]];
    }
    if (method === "tempo") {
      this.arenas.forEach(arena => arena.tempo?.(params.factor));
      return [{}, []];
    }
    if (method === "close") return [{}, []];
    throw new Error(`there is no method ${method}`);
  }

  columns(told) {
    const moment = columnsOf(told);
    if (told.some(one => one.closed_by)) moment.closed_by = told.map(one => one.closed_by ?? null);
    if (!this.images.length) return [moment, []];
    const parts = this.images.flatMap(path => {
      const place = path.slice(0, -1).reduce((at, name) => at[name], moment.observation), name = path.at(-1), own = place[name];
      delete place[name];
      return own;
    });
    const frame = new Uint8Array(parts.reduce((size, part) => size + part.length, 0));
    let at = 0;
    for (const part of parts) { frame.set(part, at); at += part.length; }
    return [moment, [frame]];
  }
}

/** Answer a training until it goes. */
export async function serve(described, make, { arenas = 1, port = null, host = "127.0.0.1", address = null, secret = null } = {}) {
  if (typeof process === "undefined" || !process.versions?.node) return inBrowser(described, make, arenas, address, secret ?? "");
  const own = secret ?? process.env.JOKULMIST_SECRET ?? "";
  const net = await import("node:net");
  const { createHash, randomBytes } = await import("node:crypto");
  if (port !== null) {
    const server = net.createServer(socket => {
      const talk = new Talk(described, make, arenas, { asked: own });
      welcome(socket, createHash, rest => converse(socket, talk, false, rest));
    });
    await new Promise(done => server.listen(port, host, done));
    return server;
  }
  const target = new URL(address ?? process.env.JOKULMIST_ADDRESS ?? "");
  const talk = new Talk(described, make, arenas, { secret: own });
  const socket = net.connect(Number(target.port || 80), target.hostname);
  socket.setNoDelay(true);
  socket.write(`GET ${target.pathname || "/"} HTTP/1.1\r\nHost: ${target.host}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n` +
    `Sec-WebSocket-Key: ${randomBytes(16).toString("base64")}\r\nSec-WebSocket-Version: 13\r\n\r\n`);
  head(socket, (lines, rest) => {
    if (!/^HTTP\/1\.1 101/.test(lines)) throw new Error(`no WebSocket answers at ${target}: ${lines.split("\r\n")[0]}`);
    converse(socket, talk, true, rest);
  });
  return new Promise(done => socket.on("close", done));
}

function inBrowser(described, make, arenas, address, secret) {
  const talk = new Talk(described, make, arenas, { secret });
  const socket = new WebSocket(address);
  socket.onmessage = async event => (await talk.answer(event.data)).forEach(frame => socket.send(frame));
  return new Promise((done, failed) => { socket.onclose = done; socket.onerror = () => failed(new Error(`nobody answers at ${address}`)); });
}

// A minimal WebSocket (RFC 6455) for Node, which has none to listen with.

function head(socket, done) {
  let bytes = Buffer.alloc(0);
  const take = piece => {
    bytes = Buffer.concat([bytes, piece]);
    const end = bytes.indexOf("\r\n\r\n");
    if (end < 0) { if (bytes.length > 1 << 16) socket.destroy(); return; }
    socket.off("data", take);
    done(bytes.subarray(0, end).toString("latin1"), bytes.subarray(end + 4));
  };
  socket.on("data", take);
  socket.on("error", () => socket.destroy());
}

function welcome(socket, createHash, done) {
  socket.setNoDelay(true);
  head(socket, (lines, rest) => {
    const key = /sec-websocket-key: *([^\r\n]+)/i.exec(lines)?.[1]?.trim();
    if (!key) { socket.end("HTTP/1.1 400 Bad Request\r\n\r\n"); return; }
    const accept = createHash("sha1").update(key + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").digest("base64");
    socket.write(`HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: ${accept}\r\n\r\n`);
    done(rest);
  });
}

function converse(socket, talk, masks, rest) {
  let bytes = rest, whole = [];
  const take = piece => {
    if (piece.length) bytes = bytes.length ? Buffer.concat([bytes, piece]) : piece;
    for (;;) {
      const frame = frameIn(bytes);
      if (!frame) return;
      bytes = bytes.subarray(frame.size);
      if (frame.kind === 8) { socket.end(framed(8, Buffer.alloc(0), masks)); return; }
      if (frame.kind === 9) { socket.write(framed(10, frame.data, masks)); continue; }
      if (frame.kind === 10) continue;
      whole.push(frame.data);
      if (!frame.last) continue;
      const text = (whole.length === 1 ? whole[0] : Buffer.concat(whole)).toString("utf8");
      whole = [];
      talk.answer(text).then(answers => answers.forEach(answer => {
        socket.write(typeof answer === "string" ? framed(1, Buffer.from(answer, "utf8"), masks) : framed(2, Buffer.from(answer), masks));
      }));
    }
  };
  socket.on("data", take);
  socket.on("error", () => socket.destroy());
  take(Buffer.alloc(0));
}

function frameIn(bytes) {
  if (bytes.length < 2) return null;
  const masked = (bytes[1] & 128) !== 0;
  let size = bytes[1] & 127, at = 2;
  if (size === 126) { if (bytes.length < 4) return null; size = bytes.readUInt16BE(2); at = 4; }
  else if (size === 127) { if (bytes.length < 10) return null; size = Number(bytes.readBigUInt64BE(2)); at = 10; }
  const start = at + (masked ? 4 : 0);
  if (bytes.length < start + size) return null;
  const data = bytes.subarray(start, start + size);
  if (masked) for (let k = 0; k < size; k++) data[k] ^= bytes[at + (k & 3)];
  return { last: (bytes[0] & 128) !== 0, kind: bytes[0] & 15, data, size: start + size };
}

function framed(kind, data, masks) {
  const size = data.length, long = size > 65535 ? 8 : size > 125 ? 2 : 0;
  const found = Buffer.alloc(2 + long + (masks ? 4 : 0) + size);
  found[0] = 128 | kind;
  found[1] = (masks ? 128 : 0) | (long === 8 ? 127 : long === 2 ? 126 : size);
  if (long === 2) found.writeUInt16BE(size, 2);
  if (long === 8) found.writeBigUInt64BE(BigInt(size), 2);
  const at = 2 + long;
  if (!masks) { data.copy(found, at); return found; }
  for (let k = 0; k < 4; k++) found[at + k] = Math.floor(Math.random() * 256);
  for (let k = 0; k < size; k++) found[at + 4 + k] = data[k] ^ found[at + (k & 3)];
  return found;
}
