// A portal that checks logins by a file that `lean-tumbler embed node` wrote: no service beside it.
//
//   CHECK=./passengers-login.js node portal.js login LOGIN < password.txt
//
// ends with 0 for yes, 1 for no, 2 for a new password that breaks rules, and 3 where nobody could
// tell. `register` and `reset` take a new password, `change` the old and the new one on two lines.
// The database is PostgreSQL, by the package pg: PGHOST, PGDATABASE and PGUSER say where.
"use strict";
const fs = require("node:fs");
const path = require("node:path");
const { Client } = require("pg");

const { PassengersLogin, CheckImpossible, PasswordRefused } = require(
  path.resolve(process.env.CHECK),
);

async function account(database, login) {
  const asked = "SELECT id, email, pw, pw_salt FROM passengers WHERE email = $1";
  const { rows } = await database.query(asked, [login]);
  // An unknown login is checked too, and costs the same time.
  return rows[0] ?? { id: null, email: login, pw: null, pw_salt: null };
}

function row({ id, email, pw, pw_salt }) {
  return { stored: pw, salt: pw_salt, login: email, account: String(id) };
}

// Writes a value only where exactly the old one still stands; else somebody changed it meanwhile.
async function swap(database, { id, pw }, value) {
  const write = "UPDATE passengers SET pw = $1 WHERE id = $2 AND pw IS NOT DISTINCT FROM $3";
  return (await database.query(write, [value, id, pw])).rowCount === 1;
}

async function login(database, check, name, password) {
  const found = await account(database, name);
  const answer = await check.check(row(found), password);
  if (answer.newValue !== null) {
    await swap(database, found, answer.newValue);
  }
  return answer.admitted;
}

const actions = {
  login,
  async register(database, check, name, password) {
    const value = await check.newValue(password, name);
    await database.query("INSERT INTO passengers (email, pw) VALUES ($1, $2)", [name, value]);
    return true;
  },
  async change(database, check, name, password, wanted) {
    if (!(await login(database, check, name, password))) {
      return false;
    }
    return swap(database, await account(database, name), await check.newValue(wanted, name));
  },
  // Behind the mailed link.
  async reset(database, check, name, password) {
    return swap(database, await account(database, name), await check.newValue(password, name));
  },
};

(async () => {
  const [, , action, name] = process.argv;
  const [password, wanted] = fs.readFileSync(0, "utf8").split("\n");
  const database = new Client();
  await database.connect();
  try {
    const done = await actions[action](database, new PassengersLogin(), name, password, wanted);
    process.exitCode = done ? 0 : 1;
  } catch (error) {
    if (error instanceof PasswordRefused) {
      console.error(error.reasons.join("\n"));
      process.exitCode = 2;
    } else if (error instanceof CheckImpossible) {
      console.error("try again in a moment");
      process.exitCode = 3;
    } else {
      throw error;
    }
  } finally {
    await database.end();
  }
})();
