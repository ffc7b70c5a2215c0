// A login handler on plain node:http that asks the login service over its Unix socket.
//
//   SERVICE=/run/lean-tumbler/login.sock node login.js /tmp/portal.sock
//   curl --unix-socket /tmp/portal.sock -d 'login=…&password=…' http://portal/login
"use strict";
const http = require("node:http");

const MOST_BYTES = 16384;

function admit(login, password) {
  const body = JSON.stringify({ store: "passengers", login, password });
  const options = {
    socketPath: process.env.SERVICE,
    path: "/v1/admit",
    method: "POST",
    headers: { "Content-Type": "application/json", "Content-Length": Buffer.byteLength(body) },
    timeout: 5000,
  };
  return new Promise((resolve, reject) => {
    const request = http.request(options, (response) => {
      let text = "";
      response.setEncoding("utf8");
      response.on("data", (part) => (text += part));
      // Only a 200 is an answer: a service that is busy must let nobody in, and lock nobody out.
      response.on("end", () =>
        response.statusCode === 200
          ? resolve(JSON.parse(text).admitted === true)
          : reject(new Error(`the login service answered ${response.statusCode}`)));
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
    try {
      const admitted = await admit(form.get("login") ?? "", form.get("password") ?? "");
      response.writeHead(admitted ? 200 : 401).end(admitted ? "welcome aboard\n" : "not known\n");
    } catch {
      response.writeHead(503, { "Retry-After": "2" }).end("try again in a moment\n");
    }
  });
});
server.listen(process.argv[2]);
