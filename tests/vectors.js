// Checks tests/vectors.json with Node's own primitives; prints how many it checked of each scheme.
"use strict";
const crypto = require("node:crypto");
const fs = require("node:fs");

const hash = (name, data) => crypto.createHash(name).update(data).digest();
const joined = (...parts) => Buffer.concat(parts.map((part) => Buffer.from(part)));

// The legacy formulas, written out; each gives the digest as it was stored.
const FORMULAS = {
  "utf-8, md5, hex": (password) => hash("md5", password).toString("hex"),
  "utf-8, append salt, sha1, hex": (password, salt) =>
    hash("sha1", joined(password, salt)).toString("hex"),
  "utf-8, prepend salt, sha256, 999 times (append salt, sha256), hex": (password, salt) => {
    let digest = hash("sha256", joined(salt, password));
    for (let round = 0; round < 999; round += 1) digest = hash("sha256", joined(digest, salt));
    return digest.toString("hex");
  },
};

const numbers = (text) =>
  Object.fromEntries(text.split(",").map((pair) => pair.split("=")).map(([k, v]) => [k, Number(v)]));

const DERIVE = {
  scrypt: (secret, salt, length, { ln, r, p }) =>
    crypto.scryptSync(secret, salt, length, { N: 2 ** ln, r, p, maxmem: 2 ** 28 }),
  "pbkdf2-sha256": (secret, salt, length, { i }) =>
    crypto.pbkdf2Sync(secret, salt, i, length, "sha256"),
  "pbkdf2-sha512": (secret, salt, length, { i }) =>
    crypto.pbkdf2Sync(secret, salt, i, length, "sha512"),
};
if (crypto.argon2Sync) {
  DERIVE.argon2id = (secret, salt, length, { m, t, p }) =>
    crypto.argon2Sync("argon2id", {
      message: secret, nonce: salt, memory: m, passes: t, parallelism: p, tagLength: length,
    });
}

const checked = {};
for (const { scheme, formula, below, password, stored } of JSON.parse(fs.readFileSync(process.argv[2]))) {
  if (!(scheme in DERIVE) || below) continue;
  const start = stored.indexOf(`$${scheme}$`);
  const fields = stored.slice(start + 1).split("$");
  const [salt, digest] = fields.slice(-2).map((text) => Buffer.from(text, "base64"));
  let secret = Buffer.from(password);
  if (formula) {
    const head = Object.fromEntries(
      stored.slice("$over$".length, start).split(",").map((pair) => pair.split("=")));
    const old = head.salt === undefined ? undefined : Buffer.from(head.salt, "base64");
    secret = Buffer.from(`over:${head.from}:${FORMULAS[formula](Buffer.from(password), old)}`);
  }
  const found = DERIVE[scheme](secret, salt, digest.length, numbers(fields.at(-3)));
  if (!found.equals(digest)) {
    console.error(`not the same: ${stored}`);
    process.exit(1);
  }
  checked[scheme] = (checked[scheme] ?? 0) + 1;
}
console.log(JSON.stringify(checked));
