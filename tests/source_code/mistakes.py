"""Lines with a mistake, and the same lines without it, in the words of each language.

A case is a file, the line of each mistake in it (counted from 1), and what must not be said of it.
"""

from typing import NamedTuple


class Case(NamedTuple):
    """A file that makes one mistake, and the same file mended."""

    code: str  # of the mistake
    name: str  # of the file
    wrong: str
    right: str


_PHP_STORE = (
    "<?php\n$st = $db->prepare('UPDATE users SET pw_hash = ? WHERE login = ?');\n"
    "$st->execute([{value}, $_POST['login']]);\n"
)
_NODE_STORE = (
    "const crypto = require('crypto');\nconst bcrypt = require('bcrypt');\n"
    "app.post('/set', async (req, res) => {{\n"
    "  {before}\n"
    "  await db.query('UPDATE users SET pw_hash = $1 WHERE id = $2', [{value}, req.user.id]);\n"
    "  res.sendStatus(204);\n}});\n"
)
_FLASK = (
    "import base64\nimport hashlib\nimport hmac\nimport secrets\nimport bcrypt\nimport random\n"
    "from flask import request\n\n\ndef change(db):\n    password = request.form['password']\n"
    "    {before}\n    db.execute('UPDATE users SET pw_hash = ? WHERE id = ?', ({value}, 7))\n"
)


def _php(value: str) -> str:
    return _PHP_STORE.replace("{value}", value)


def _node(value: str, before: str = "const salt = 'x';") -> str:
    return _NODE_STORE.format(value=value, before=before)


def _flask(value: str, before: str = "pass") -> str:
    return _FLASK.format(value=value, before=before)


_PHP_RIGHT = _php("password_hash($_POST['password'], PASSWORD_ARGON2ID)")
_LOGIN = (
    "<?php\nfunction login($db) {\n  $st = $db->prepare('SELECT * FROM users WHERE login = ?');\n"
    "  $st->execute([$_POST['login']]);\n  $row = $st->fetch();\n  {check}\n  return false;\n}\n"
)


def _login(check: str) -> str:
    return _LOGIN.replace("{check}", check)


_LOGIN_RIGHT = _login("if (password_verify($_POST['password'], $row['pw_hash'])) { return true; }")
_EXPRESS_LOGIN = (
    "const bcrypt = require('bcrypt');\napp.post('/login', async (req, res) => {{\n"
    "  const user = await User.findOne({{ email: req.body.email }});\n  {check}\n"
    "  {answer}\n}});\n"
)


def _express(check: str, answer: str = "res.json({ ok: true });") -> str:
    return _EXPRESS_LOGIN.format(check=check, answer=answer)


_EXPRESS_RIGHT = _express(
    "if (!(await bcrypt.compare(req.body.password, user.passwordHash))) return res.sendStatus(401);"
)

CASES: tuple[Case, ...] = (
    Case("stored-as-typed", "set.php", _php("$_POST['password']"), _PHP_RIGHT),
    Case("stored-as-typed", "set.js", _node("req.body.password"),
         _node("await bcrypt.hash(req.body.password, 12)")),
    Case("stored-as-typed", "set.py", _flask("password"),
         _flask("bcrypt.hashpw(password.encode(), bcrypt.gensalt(12))")),
    Case("stored-as-typed", "encoded.php", _php("base64_encode($_POST['password'])"), _PHP_RIGHT),
    Case("not-awaited", "set.js", _node("bcrypt.hash(req.body.password, 12)"),
         _node("await bcrypt.hash(req.body.password, 12)")),
    Case("not-awaited", "login.js",
         _express("if (!bcrypt.compare(req.body.password, user.passwordHash)) return res.end();"),
         _EXPRESS_RIGHT),
    Case("salt-not-kept", "set.php",
         _php("hash('sha256', bin2hex(random_bytes(8)) . $_POST['password'])"), _PHP_RIGHT),
    Case("salt-not-kept", "set.py",
         _flask("hashlib.sha256((salt + password).encode()).hexdigest()",
                "salt = secrets.token_hex(8)"),
         _flask("salt + '$' + hashlib.sha256((salt + password).encode()).hexdigest()",
                "salt = secrets.token_hex(8)")),
    Case("swapped-arguments", "login.php",
         _login("if (password_verify($row['pw_hash'], $_POST['password'])) { return true; }"),
         _LOGIN_RIGHT),
    Case("swapped-arguments", "login.js",
         _express("if (!(await bcrypt.compare(user.passwordHash, req.body.password))) return;"),
         _EXPRESS_RIGHT),
    Case("hash-compared-with-hash", "login.php",
         _login("if (password_hash($_POST['password'], PASSWORD_BCRYPT) === $row['pw_hash']) "
                "{ return true; }"),
         _LOGIN_RIGHT),
    Case("hash-compared-with-hash", "login.js",
         _express("const hashed = await bcrypt.hash(req.body.password, 12);\n"
                  "  if (hashed !== user.passwordHash) return res.sendStatus(401);"),
         _EXPRESS_RIGHT),
    Case("changed-on-one-path", "both.php",
         _php("password_hash(trim($_POST['password']), PASSWORD_ARGON2ID)")
         + _LOGIN_RIGHT.removeprefix("<?php\n"),
         _PHP_RIGHT + _LOGIN_RIGHT.removeprefix("<?php\n")),
    Case("changed-on-one-path", "both.js",
         _node("await bcrypt.hash(req.body.password.trim(), 12)") + _EXPRESS_RIGHT,
         _node("await bcrypt.hash(req.body.password, 12)") + _EXPRESS_RIGHT),
    Case("bytes-printed-as-text", "set.py",
         _flask("str(hashlib.sha256(password.encode()).digest())"),
         _flask("hashlib.sha256(password.encode()).hexdigest()")),
    Case("nul-ends-digest", "set.php",
         _php("password_hash(hash('sha256', $_POST['password'], true), PASSWORD_BCRYPT)"),
         _php("password_hash(base64_encode(hash('sha256', $_POST['password'], true)), "
              "PASSWORD_BCRYPT)")),
    Case("nul-ends-digest", "set.py",
         _flask("bcrypt.hashpw(hashlib.sha256(password.encode()).digest(), bcrypt.gensalt(12))"),
         _flask("bcrypt.hashpw(base64.b64encode(hashlib.sha256(password.encode()).digest()), "
                "bcrypt.gensalt(12))")),
    Case("error-ignored", "set.go",
         "package main\n\nfunc set(db *sql.DB, r *http.Request) {\n"
         "\thash, _ := bcrypt.GenerateFromPassword([]byte(r.FormValue(\"password\")), 12)\n"
         "\tdb.Exec(\"UPDATE users SET pw_hash = $1 WHERE id = $2\", string(hash), 7)\n}\n",
         "package main\n\nfunc set(db *sql.DB, r *http.Request) {\n"
         "\thash, err := bcrypt.GenerateFromPassword([]byte(r.FormValue(\"password\")), 12)\n"
         "\tif err != nil {\n\t\treturn\n\t}\n"
         "\tdb.Exec(\"UPDATE users SET pw_hash = $1 WHERE id = $2\", string(hash), 7)\n}\n"),
    Case("cut-password", "set.php",
         _php("password_hash(substr($_POST['password'], 0, 8), PASSWORD_ARGON2ID)"), _PHP_RIGHT),
    Case("beyond-72-bytes", "set.php",
         _php("password_hash(hash('sha512', $_POST['password']), PASSWORD_BCRYPT)"),
         _php("password_hash(hash('sha256', $_POST['password']), PASSWORD_BCRYPT)")),
    Case("accepts-stored-text", "login.php",
         _login("if ($_POST['password'] == $row['pw_hash']) { return true; }"), _LOGIN_RIGHT),
    Case("accepts-stored-text", "login.rb",
         "def login\n  user = User.find_by(email: params[:email])\n"
         "  return true if params[:password] == user.password\n  false\nend\n",
         "def login\n  user = User.find_by(email: params[:email])\n"
         "  BCrypt::Password.new(user.password_digest) == params[:password]\nend\n"),
    Case("seeded-password", "seed.sql",
         "INSERT INTO users (login, password) VALUES ('admin@coldharbour.example', 'ferry');\n",
         "INSERT INTO users (login, password) VALUES ('admin@coldharbour.example', NULL);\n"),
    Case("seeded-password", "seed.js",
         "db.query(\"INSERT INTO users (login, password) VALUES ('admin', 'harbour1')\");\n",
         "db.query(\"INSERT INTO users (login) VALUES ('admin')\");\n"),
    Case("mass-assignment", "set.js",
         "app.post('/me', async (req, res) => { await User.create(req.body); });\n",
         "app.post('/me', async (req, res) => { await User.create({ name: req.body.name }); });\n"),
    Case("fast-digest", "set.php", _php("md5($_POST['password'])"), _PHP_RIGHT),
    Case("fast-digest", "Set.java",
         "class Set {\n  String make(String password) throws Exception {\n"
         "    MessageDigest md = MessageDigest.getInstance(\"SHA-1\");\n"
         "    return HexFormat.of().formatHex(md.digest(password.getBytes()));\n  }\n}\n",
         "class Set {\n  String make(String password) {\n"
         "    return BCrypt.hashpw(password, BCrypt.gensalt(12));\n  }\n}\n"),
    Case("fast-digest", "set.rb",
         "def make(password, salt)\n  Digest::SHA1.hexdigest(salt + password)\nend\n",
         "def make(password)\n  BCrypt::Password.create(password, cost: 12)\nend\n"),
    Case("unsalted", "set.php", _php("sha1($_POST['password'])"), _PHP_RIGHT),
    Case("constant-salt", "set.php", _php("sha1('Coldharbour1998' . $_POST['password'])"),
         _PHP_RIGHT),
    Case("constant-salt", "set.py",
         _flask("hashlib.sha256(('north-quay' + password).encode()).hexdigest()"),
         _flask("bcrypt.hashpw(password.encode(), bcrypt.gensalt(12))")),
    Case("weak-salt", "set.php", _php("md5(($s = uniqid()) . $_POST['password']) . ':' . $s"),
         _PHP_RIGHT),
    Case("weak-salt", "set.js",
         _node("salt + '$' + crypto.createHash('sha256').update(salt + req.body.password)"
               ".digest('hex')", "const salt = String(Math.random());"),
         _node("await bcrypt.hash(req.body.password, 12)")),
    Case("login-as-salt", "set.php", _php("md5($_POST['login'] . $_POST['password'])"),
         _PHP_RIGHT),
    Case("low-cost", "set.js", _node("await bcrypt.hash(req.body.password, 4)"),
         _node("await bcrypt.hash(req.body.password, 12)")),
    Case("low-cost", "set.py",
         _flask("hashlib.pbkdf2_hmac('sha256', password.encode(), salt, 1000).hex()",
                "salt = secrets.token_bytes(16)"),
         _flask("hashlib.pbkdf2_hmac('sha256', password.encode(), salt, 600000).hex()",
                "salt = secrets.token_bytes(16)")),
    Case("database-function", "set.php",
         "<?php\n$db->query(\"UPDATE users SET pw = OLD_PASSWORD('{$_POST['password']}')\");\n",
         _PHP_RIGHT),
    Case("found-by-password", "login.php",
         "<?php\n$db->query(\"SELECT id FROM users WHERE login = '{$_POST['login']}' AND "
         "password = '{$_POST['password']}'\");\n", _LOGIN_RIGHT),
    Case("found-by-hash", "login.php",
         "<?php\n$db->query(\"SELECT id FROM users WHERE login = '{$_POST['login']}' AND "
         "pw = '\" . sha1($_POST['password']) . \"'\");\n", _LOGIN_RIGHT),
    Case("loose-comparison", "login.php",
         _login("if (sha1($row['salt'] . $_POST['password']) == $row['pw_hash']) { return true; }"),
         _login("if (hash_equals($row['pw_hash'], sha1($row['salt'] . $_POST['password']))) "
                "{ return true; }")),
    Case("folded-comparison", "Login.java",
         "class Login {\n  boolean check(String password, String stored) throws Exception {\n"
         "    MessageDigest md = MessageDigest.getInstance(\"SHA-1\");\n"
         "    return HexFormat.of().formatHex(md.digest(password.getBytes()))"
         ".equalsIgnoreCase(stored);\n  }\n}\n",
         "class Login {\n  boolean check(String password, String stored) {\n"
         "    return BCrypt.checkpw(password, stored);\n  }\n}\n"),
    Case("folded-password", "set.php",
         _php("password_hash(strtolower($_POST['password']), PASSWORD_ARGON2ID)"), _PHP_RIGHT),
    Case("cut-digest", "set.php", _php("substr(md5($_POST['password']), 0, 16)"), _PHP_RIGHT),
    Case("encrypted-password", "set.php",
         _php("openssl_encrypt($_POST['password'], 'aes-256-cbc', getenv('KEY'), 0, $iv)"),
         _PHP_RIGHT),
    Case("key-in-source", "set.php",
         "<?php\nconst PEPPER = 'north-quay-1998';\n"
         + _php("hash_hmac('sha256', $_POST['password'], PEPPER)").removeprefix("<?php\n"),
         _php("hash_hmac('sha256', $_POST['password'], getenv('PEPPER'))")),
    Case("password-logged", "log.php",
         "<?php\nerror_log('login with ' . $_POST['password']);\n",
         "<?php\nerror_log('login of ' . $_POST['login']);\n"),
    Case("password-logged", "log.js",
         "app.post('/l', (req, res) => { console.log(`try ${req.body.password}`); });\n",
         "app.post('/l', (req, res) => { console.log(`try ${req.body.email}`); });\n"),
    Case("password-logged", "log.go",
         "package main\n\nfunc login(r *http.Request) {\n"
         "\tlog.Printf(\"try %s\", r.FormValue(\"password\"))\n}\n",
         "package main\n\nfunc login(r *http.Request) {\n"
         "\tlog.Printf(\"try %s\", r.FormValue(\"email\"))\n}\n"),
    Case("stored-value-logged", "log.php", _login("error_log($row['pw_hash']);"),
         _login("error_log($row['login']);")),
    Case("answered", "me.js",
         "app.get('/me', async (req, res) => {\n"
         "  const { rows } = await db.query('SELECT * FROM users WHERE id = $1', [req.user.id]);\n"
         "  res.json(rows[0]);\n});\n",
         "app.get('/me', async (req, res) => {\n"
         "  const { rows } = await db.query('SELECT id, login FROM users WHERE id = $1', [1]);\n"
         "  res.json(rows[0]);\n});\n"),
    Case("in-url-or-token", "reset.php",
         "<?php\nheader('Location: /welcome?pw=' . $_POST['password']);\n",
         "<?php\nheader('Location: /welcome');\n"),
    Case("mailed-password", "mail.php",
         "<?php\nmail($_POST['email'], 'Welcome', 'Your password: ' . $_POST['password']);\n",
         "<?php\nmail($_POST['email'], 'Welcome', 'Your account is ready.');\n"),
    Case("different-answers", "login.js",
         _express("if (!user) return res.send('No such user');\n"
                  "  if (!(await bcrypt.compare(req.body.password, user.passwordHash))) return;"),
         _EXPRESS_RIGHT),
    Case("no-rehash", "login.php", _LOGIN_RIGHT,
         _login("if (password_verify($_POST['password'], $row['pw_hash'])) { "
                "return !password_needs_rehash($row['pw_hash'], PASSWORD_ARGON2ID); }")),
    Case("hashed-on-every-save", "user.rb",
         "class User\n  before_save :hash_it\n  def hash_it\n"
         "    self.password = BCrypt::Password.create(password)\n  end\nend\n",
         "class User\n  before_save :hash_it\n  def hash_it\n"
         "    self.password = BCrypt::Password.create(password) if password_changed?\n  end\nend\n"),
    Case("hashed-on-every-save", "user.js",
         "schema.pre('save', async function () {\n"
         "  this.password = await bcrypt.hash(this.password, 12);\n});\n",
         "schema.pre('save', async function () {\n  if (this.isModified('password')) {\n"
         "    this.password = await bcrypt.hash(this.password, 12);\n  }\n});\n"),
    Case("hashed-twice", "user.js",
         "schema.pre('save', async function () {\n  if (this.isModified('password')) {\n"
         "    this.password = await bcrypt.hash(this.password, 12);\n  }\n});\n"
         "app.post('/r', async (req, res) => {\n"
         "  await User.create({ password: await bcrypt.hash(req.body.password, 12) });\n});\n",
         "app.post('/r', async (req, res) => {\n"
         "  await User.create({ password: await bcrypt.hash(req.body.password, 12) });\n});\n"),
)  # fmt: skip
