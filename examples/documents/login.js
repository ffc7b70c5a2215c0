// A document store in front of the login service: the application fetches the document, asks about
// its value, and writes the new one only where exactly the old one still stands.
//
//   SERVICE=/run/lean-tumbler/login.sock DOCUMENTS=kiosk.json node login.js LOGIN < password.txt
//
// It ends with 0 for yes and 1 for no; "observe LOGIN right" (or wrong, or unasked) tells what the old
// code said, and ends with 0. The store here is a file with one object; what matters is
// compareAndSet(), which every document store has under some name.
"use strict";
const fs = require("node:fs");
const http = require("node:http");

const path = process.env.DOCUMENTS;

// Own members alone: every object of the language has a "constructor", and nobody of that name.
function of(documents, login) {
  return Object.hasOwn(documents, login) ? documents[login] : undefined;
}

function find(login) {
  return of(JSON.parse(fs.readFileSync(path, "utf8")), login);
}

function compareAndSet(login, expected, value) {
  const documents = JSON.parse(fs.readFileSync(path, "utf8"));
  const found = of(documents, login);
  if (found === undefined || found.profile.secret !== expected) return false;
  found.profile.secret = value;
  fs.writeFileSync(`${path}.new`, JSON.stringify(documents), { mode: 0o600 });
  fs.renameSync(`${path}.new`, path);
  return true;
}

function ask(question) {
  const body = JSON.stringify(question);
  return new Promise((resolve, reject) => {
    const request = http.request(
      {
        socketPath: process.env.SERVICE,
        path: "/v1/admit-value",
        method: "POST",
        headers: { "Content-Type": "application/json", "Content-Length": Buffer.byteLength(body) },
      },
      (response) => {
        let text = "";
        response.setEncoding("utf8");
        response.on("data", (part) => (text += part));
        response.on("end", () =>
          response.statusCode === 200
            ? resolve(JSON.parse(text))
            : reject(new Error(`the login service answered ${response.statusCode}`)));
      });
    request.on("error", reject);
    request.end(body);
  });
}

async function admit(login, password) {
  const stored = find(login)?.profile.secret ?? null; // null: an unknown login takes as long
  const answer = await ask({ store: "kiosk", login, stored, password });
  // Where the swap fails, somebody else has changed the value: the login is right all the same.
  if (answer.new_value) compareAndSet(login, stored, answer.new_value);
  return answer.admitted;
}

// While the old code still decides: tell what it said of the password alone. That is true for a banned
// or expired account too, and undefined where it refused before it looked at the password.
async function observe(login, password, wasRight) {
  const stored = find(login)?.profile.secret ?? null;
  await ask({ store: "kiosk", login, stored, password, expected: wasRight });
  return true;
}

const said = { right: true, wrong: false };
const typed = fs.readFileSync(0, "utf8").replace(/\n$/, "");
const [first, login, verdict] = process.argv.slice(2);
(first === "observe" ? observe(login, typed, said[verdict]) : admit(first, typed)).then(
  (admitted) => process.exit(admitted ? 0 : 1),
  (error) => {
    console.error(error.message);
    process.exit(3);
  });
