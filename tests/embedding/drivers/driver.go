// Asks a written check, a question a line, and prints its answers: driver KEYS.
package main

import (
	"bufio"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"

	"written/login"
)

type question struct {
	Stored, Salt, Login, Account *string
	Columns                      map[string]*string
	Password                     string
	New                          bool
	File, Key                    string
	Expected                     *bool
}

func raw(text *string) []byte {
	if text == nil {
		return nil
	}
	found, err := base64.StdEncoding.DecodeString(*text)
	if err != nil {
		panic(err)
	}
	return append([]byte{}, found...)
}

func text(given *string) string {
	if given == nil {
		return ""
	}
	return *given
}

func answered(checker *login.Checker, asked question) map[string]any {
	password := string(raw(&asked.Password))
	var refused *login.RefusedError
	if asked.New {
		value, err := checker.NewValue(password, text(asked.Login), text(asked.Account))
		if errors.As(err, &refused) {
			return map[string]any{"reasons": strings.Join(refused.Reasons, ",")}
		}
		return map[string]any{"value": value}
	}
	columns := map[string][]byte{}
	for name, column := range asked.Columns {
		columns[name] = raw(column)
	}
	row := login.Row{
		Stored: raw(asked.Stored), Salt: raw(asked.Salt), Login: text(asked.Login),
		Account: text(asked.Account), Columns: columns,
	}
	answer, err := checker.Check(row, password)
	if err != nil {
		return map[string]any{"error": err.Error()}
	}
	if asked.File != "" {
		err := checker.Count(asked.File, []byte(asked.Key), text(asked.Login), answer, asked.Expected)
		if err != nil {
			panic(err)
		}
	}
	found := map[string]any{
		"admitted": answer.Admitted, "new_value": nil, "refusal": answer.Refusal, "kept": answer.Kept,
		"cohort": answer.Cohort, "identity": answer.Identity,
	}
	if answer.NewValue != "" {
		found["new_value"] = answer.NewValue
	}
	return found
}

func main() {
	given, keys := map[string]string{}, map[string][]byte{}
	if err := json.Unmarshal([]byte(os.Args[1]), &given); err != nil {
		panic(err)
	}
	for name, key := range given {
		keys[name], _ = hex.DecodeString(key)
	}
	checker := login.New(keys)
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(make([]byte, 1<<20), 1<<24)
	for lines.Scan() {
		var asked question
		if err := json.Unmarshal(lines.Bytes(), &asked); err != nil {
			panic(err)
		}
		told, _ := json.Marshal(answered(checker, asked))
		fmt.Println(string(told))
	}
}
