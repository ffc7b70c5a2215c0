// Prints how many seconds so many logins took, and as many runs of the bare primitive, by turns.
const [file, value, logins] = process.argv.slice(2);
const { KioskLogin } = require(file);
const argon2 = require("argon2");

(async () => {
  const check = new KioskLogin();
  let [own, bare] = [0n, 0n];
  for (let number = 0; number < Number(logins); number += 1) {
    let start = process.hrtime.bigint();
    await check.check({ stored: value }, "Gull 4711");
    own += process.hrtime.bigint() - start;
    start = process.hrtime.bigint();
    await argon2.verify(value, "Gull 4711");
    bare += process.hrtime.bigint() - start;
  }
  console.log(JSON.stringify([Number(own) / 1e9, Number(bare) / 1e9]));
})();
