// The files in a zip, read in the browser: its directory at the end, and each file's bytes when they are wanted.
// Source: APPNOTE.TXT 6.3, sections 4.3.7, 4.3.12 and 4.3.16.
const END = 0x06054b50, ENTRY = 0x02014b50, LOCAL = 0x04034b50, STORED = 0, DEFLATED = 8, ENCRYPTED = 1, MOST = 1 << 30;
export const isZip = (file) => file.name.toLowerCase().endsWith(".zip");

const view = async (blob) => new DataView(await blob.arrayBuffer());

// [File, path] of each file in the zip. Throws where it is none, or one that is not understood (encrypted, beyond 4 GB).
export async function filesOf(zip) {
  const tail = await view(zip.slice(Math.max(0, zip.size - 65557)));
  let end = tail.byteLength - 22;
  while (end >= 0 && tail.getUint32(end, true) !== END) end -= 1;
  if (end < 0) throw new Error("no zip");
  const count = tail.getUint16(end + 10, true), size = tail.getUint32(end + 12, true), from = tail.getUint32(end + 16, true);
  if (from === 0xffffffff || from + size > zip.size) throw new Error("beyond 4 GB, or damaged");
  const directory = await view(zip.slice(from, from + size)), words = new TextDecoder(), found = [];
  let sum = 0;
  for (let at = 0, n = 0; n < count; n += 1) {
    if (directory.getUint32(at, true) !== ENTRY) throw new Error("damaged");
    const flags = directory.getUint16(at + 8, true), method = directory.getUint16(at + 10, true), packed = directory.getUint32(at + 20, true);
    const whole = directory.getUint32(at + 24, true), lengths = [28, 30, 32].map((o) => directory.getUint16(at + o, true)), place = directory.getUint32(at + 42, true);
    const path = words.decode(new Uint8Array(directory.buffer, at + 46, lengths[0]));
    at += 46 + lengths[0] + lengths[1] + lengths[2];
    if (path.endsWith("/")) continue;
    sum += whole;
    if (flags & ENCRYPTED || ![STORED, DEFLATED].includes(method) || sum > MOST) throw new Error("not understood");
    found.push({ path, place, packed, method, whole });
  }
  return Promise.all(found.map(async (one) => [await opened(zip, one), one.path.replaceAll("\\", "/").replace(/^\/+/, "")]));
}

async function opened(zip, { path, place, packed, method, whole }) {
  const local = await view(zip.slice(place, place + 30));
  if (local.getUint32(0, true) !== LOCAL) throw new Error("damaged");
  const from = place + 30 + local.getUint16(26, true) + local.getUint16(28, true), bytes = zip.slice(from, from + packed), name = path.split(/[\\/]/).pop();
  if (method === STORED) return new File([bytes], name);
  const plain = await new Response(bytes.stream().pipeThrough(new DecompressionStream("deflate-raw"))).blob();
  if (plain.size !== whole) throw new Error("damaged");
  return new File([plain], name);
}
