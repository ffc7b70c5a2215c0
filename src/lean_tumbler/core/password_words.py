"""Words for passwords, in the languages in which people name columns and variables."""

# alternatives of a regular expression, of folded names
PASSWORD_WORDS = (
    "pw|pwd|pass|passwd|password|passphrase|passcode|secret|credential"  # noqa: S105 - words, and no password
    # in other languages than English
    "|passwort|kennwort|passord|wachtwoord|l[oö]senord|adgangskode|salasana|parool|sifre|şifre"
    "|mot_?de_?passe|mdp|contrase[nñ]y?a|clave|senha|parola|heslo|has[lł]o|jelsz[oó]|пароль"
)
