// The game in Node, as fast as it can: a training starts it, `jm.Remote(command=["node", "examples/punt/node.mjs"])`, or it listens at the port given.
import { serve } from "../../clients/javascript/arenas.js";
import { Punt, described } from "./punt.js";

const [port] = process.argv.slice(2);
await serve(described, () => new Punt(), { arenas: Number(process.env.ARENAS ?? 8), port: port ? Number(port) : null });
