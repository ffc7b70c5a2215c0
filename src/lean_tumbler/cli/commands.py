"""The names of all commands, with what each does."""

# Name: what it does, as the help says it. In the order in which people use them. A command's
# module has its name, with an underscore for a hyphen.
SUMMARIES = {
    "demo": "run the whole job on invented data, saying at each step what is done and why",
    "audit": "find and judge the stored passwords of a database or file; it is only read",
    "draft": "write a policy for a database, file or directory, and say what proves each line",
    "explain": "read one stored value aloud: scheme, cost, salt and grade",
    "verify": "check accounts whose password is known, and name the near miss of those that fail",
    "formula": "recover the formula of a legacy system from known accounts, or read one aloud",
    "tune": "measure this machine, and choose scheme and parameters that carry the login load",
    "plan": "say what each cohort gets, what the schema needs first, and what would be touched",
    "rehearse": "run the whole change on a copy, and prove that nobody is locked out",
    "layer": "wrap every legacy digest of a store in the target hash now, without any password",
    "admit": "check a login against the store, and upgrade its stored value where due",
    "serve": "check logins over HTTP for applications in any language, and upgrade their values",
    "embed": "write the check of a store as a source file of the application's own language",
    "evidence": "take up the verdicts that files of `embed` have counted",
    "hash": "print the stored value for a new password that keeps the policy's rules",
    "set-password": "give a password to an account without value, or to one that is locked",
    "lock-dormant": "close the accounts that never came back, reversibly, and list them for a mail",
    "rekey": "put stored values under a key that stands apart, replace that key, or take it off",
    "undo": "put back what a bulk step replaced, from its sealed backup",
    "keys": "make keys for sealed backups and over stored values, and try what each opens",
    "progress": "count the grades now, and say whether the migration is on course",
    "enforce": "keep it finished: a guard on the column, and a gate for cron and CI",
    "residue": "find what still holds old values: logs, dumps, archives, histories, freed pages",
    "code": "find the lines of source that make, check, write and leak passwords, and the formula",
    "exposed": "after a leak: whose value falls when, who must be reset today, and who need not",
    "doctor": "say what is installed, readable and reachable, and what to do about the rest",
    "completion": "print what bash, zsh or fish reads to complete commands, options and names",
    "report": "write the file for whoever signs off: before and after, standards, what remains",
}
