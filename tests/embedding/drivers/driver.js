// Asks a written check, a question a line, and prints its answers: driver.js FILE CLASS KEYS
"use strict";
const readline = require("node:readline");

const [, , file, name, given] = process.argv;
const { [name]: Login, CheckImpossible, PasswordRefused } = require(file);
const keys = Object.fromEntries(
  Object.entries(JSON.parse(given)).map(([key, hex]) => [key, Buffer.from(hex, "hex")]),
);
const login = new Login(keys);
const raw = (text) => (text === null ? null : Buffer.from(text, "base64"));

async function asked(question) {
  const password = Buffer.from(question.password, "base64").toString();
  try {
    if (question.new) {
      return { value: await login.newValue(password, question.login, question.account) };
    }
    const columns = Object.fromEntries(
      Object.entries(question.columns).map(([column, text]) => [column, raw(text)]),
    );
    const row = {
      stored: raw(question.stored), salt: raw(question.salt), login: question.login,
      account: question.account, columns,
    };
    const found = await login.check(row, password);
    if (question.file) {
      login.count(question.file, question.key, question.login, found, question.expected);
    }
    const { newValue, ...answer } = found;
    return { new_value: newValue, ...answer };
  } catch (error) {
    if (error instanceof CheckImpossible) return { error: error.message };
    if (error instanceof PasswordRefused) return { reasons: error.reasons.join(",") };
    throw error;
  }
}

(async () => {
  for await (const line of readline.createInterface({ input: process.stdin })) {
    console.log(JSON.stringify(await asked(JSON.parse(line))));
  }
})();
