// Opens tests/keyed_vectors.json with Node's own crypto module; prints how many it opened.
"use strict";
const crypto = require("node:crypto");
const fs = require("node:fs");

const mac = (key, text) => crypto.createHmac("sha256", key).update(text).digest();
const raw = (text) => Buffer.from(text, "base64");

function opened({ key, realm, account, stored }) {
  const [, tag, head, nonce, sealed] = stored.split("$");
  const { by, check, to } = Object.fromEntries(head.split(",").map((pair) => pair.split("=")));
  if (tag !== "keyed") return null;
  if (!mac(raw(key), `keyed:check:${by}:${realm}`).subarray(0, 6).equals(raw(check))) return null;
  const place = to === "account" ? `:${account}` : "";
  const whole = raw(sealed);
  const cipher = crypto.createDecipheriv("aes-256-gcm", mac(raw(key), "keyed:encrypt"), raw(nonce));
  cipher.setAAD(Buffer.from(`keyed:${by}:${to}:${realm}${place}`));
  cipher.setAuthTag(whole.subarray(-16));
  try {
    return cipher.update(whole.subarray(0, -16), undefined, "utf8") + cipher.final("utf8");
  } catch {
    return null;
  }
}

let count = 0;
for (const vector of JSON.parse(fs.readFileSync(process.argv[2]))) {
  const moved = opened({ ...vector, account: `${vector.account}x` });
  const isBound = vector.stored.includes(",to=account$");
  if (opened(vector) !== vector.inner || (moved === null) !== isBound) {
    console.error(`not the same: ${vector.stored}`);
    process.exit(1);
  }
  count += 1;
}
console.log(count);
