// Handlers on plain node:http that ask the login service over its Unix socket.
//
//   SERVICE=/run/lean-tumbler/login.sock node login.js /tmp/portal.sock
//   curl --unix-socket /tmp/portal.sock -d 'login=…&password=…' http://portal/login
//   curl --unix-socket /tmp/portal.sock -d 'login=…&password=…&new=…' http://portal/change
//
// While the old code still decides, it tells by `observe` what it said; /observe stands for it here.
// Registration, a reset behind the mailed link, seeds and imports store what storedValue gives.
"use strict";
const http = require("node:http");

const MOST_BYTES = 16384;

async function admit(login, password) {
  return (await ask("/v1/admit", { store: "passengers", login, password })).admitted === true;
}

// What the old code said of the password alone: true for a banned or expired account too, undefined
// where it refused before it looked at the password.
async function observe(login, password, expected) {
  await ask("/v1/admit", { store: "passengers", login, password, expected });
}

async function storedValue(login, password) {
  return (await ask("/v1/hash", { login, password })).value;
}

async function change(login, password, new_password) {
  const fields = { store: "passengers", login, password, new_password };
  return (await ask("/v1/change", fields)).changed === true;
}

function ask(path, fields) {
  const body = JSON.stringify(fields);
  const options = {
    socketPath: process.env.SERVICE,
    path,
    method: "POST",
    headers: { "Content-Type": "application/json", "Content-Length": Buffer.byteLength(body) },
    timeout: 5000,
  };
  return new Promise((resolve, reject) => {
    const request = http.request(options, (response) => {
      let text = "";
      response.setEncoding("utf8");
      response.on("data", (part) => (text += part));
      response.on("end", () => {
        // Only a 200 is an answer: a service that is busy must let nobody in, and lock nobody out.
        if (response.statusCode === 200) return resolve(JSON.parse(text));
        const error = new Error(`the login service answered ${response.statusCode}`);
        // A new password that breaks rules: show which.
        if (response.statusCode === 422) error.reasons = JSON.parse(text).reasons;
        reject(error);
      });
    });
    request.on("timeout", () => request.destroy(new Error("the login service is silent")));
    request.on("error", reject);
    request.end(body);
  });
}

const server = http.createServer((request, response) => {
  let body = "";
  request.setEncoding("utf8");
  request.on("data", (part) => {
    body += part;
    if (body.length > MOST_BYTES) request.destroy();
  });
  request.on("end", async () => {
    const form = new URLSearchParams(body);
    const [login, password] = ["login", "password"].map((name) => form.get(name) ?? "");
    try {
      if (request.url === "/register") {
        // A real one inserts the account with this value; it is never part of an answer.
        const value = await storedValue(login, password);
        response.writeHead(200).end(value.startsWith("$") ? "registered\n" : "no value\n");
        return;
      }
      if (request.url === "/observe") {
        await observe(login, password, { right: true, wrong: false }[form.get("said")]);
        response.writeHead(200).end("told\n");
        return;
      }
      const done = request.url === "/change"
        ? await change(login, password, form.get("new") ?? "")
        : await admit(login, password);
      response.writeHead(done ? 200 : 401).end(done ? "welcome aboard\n" : "not known\n");
    } catch (error) {
      if (error.reasons) response.writeHead(422).end(`${error.reasons.join("\n")}\n`);
      else response.writeHead(503, { "Retry-After": "2" }).end("try again in a moment\n");
    }
  });
});
server.listen(process.argv[2]);
