// The main job by a client whose types come from the interface's own description: file, proof, download.
// Run as: main_job.js ADDRESS TOKEN FILE OUT
import { readFile, writeFile } from "node:fs/promises";
import { basename } from "node:path";
import createClient from "openapi-fetch";
import type { paths } from "./schema";

const [address, token, path, out] = process.argv.slice(2) as [string, string, string, string];
const client = createClient<paths>({ baseUrl: address, headers: { Authorization: `Bearer ${token}` } });

const bytes = await readFile(path);
const sent = await client.POST("/files", {
  body: { file: "", path: basename(path), show: "The mill", rule: "" },
  bodySerializer: (body) => {
    const form = new FormData();
    form.append("file", new Blob([bytes]), basename(path));
    form.append("path", body.path ?? "");
    form.append("show", body.show ?? "");
    return form;
  },
});
if (!sent.data) throw new Error(sent.error.sentence);
const kept = await client.POST("/files/{source_id}/keep", { params: { path: { source_id: sent.data.id as number } }, body: {} });
const camera = kept.data?.kept?.[0];
if (camera === undefined) throw new Error(kept.error?.sentence ?? "nothing was kept");
const done = await client.POST("/cameras/{camera_id}/deliveries", {
  params: { path: { camera_id: camera }, header: { "Idempotency-Key": "typescript" } },
  body: { to: ["zup-lh-cm"], formats: ["usd"] },
});
const delivery = done.data?.deliveries?.[0];
if (!delivery) throw new Error(done.error?.sentence ?? "nothing was delivered");
const proof = await client.GET("/deliveries/{delivery_id}/proof", { params: { path: { delivery_id: delivery.id } } });
const name = delivery.files[0]?.name ?? "";
const file = await client.GET("/deliveries/{delivery_id}/files/{name}", {
  params: { path: { delivery_id: delivery.id, name } },
  parseAs: "arrayBuffer",
});
await writeFile(out, new Uint8Array(file.data as unknown as ArrayBuffer));
const worst = Math.max(...(proof.data?.frames ?? []).map((f) => f.deviation_px));
console.log(JSON.stringify({ matches: delivery.matches, frames: proof.data?.frames.length, worst, name }));
