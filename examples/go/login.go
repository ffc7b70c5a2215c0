// Command login asks the login service over its Unix socket, with the standard library alone.
//
//	SERVICE=/run/lean-tumbler/login.sock go run login.go LOGIN < password.txt
//
// It ends with 0 for yes and 1 for no; so does "change LOGIN" with the old and the new password on
// two lines. "hash LOGIN" prints the stored value, and "observe LOGIN right" (or wrong, or unasked)
// tells what the old code said.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"time"
)

var service = &http.Client{
	Timeout: 5 * time.Second,
	Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "unix", os.Getenv("SERVICE"))
		},
	},
}

type answer struct {
	Admitted bool     `json:"admitted"`
	Changed  bool     `json:"changed"`
	Value    string   `json:"value"`
	Reasons  []string `json:"reasons"`
}

// Admit tells whether a password is right: for a login. An error is no answer: a service that is
// busy must let nobody in, and lock nobody out.
func Admit(login, password string) (bool, error) {
	found, err := ask("/v1/admit", map[string]any{"store": "passengers", "login": login, "password": password})
	return found.Admitted, err
}

// Observe tells, while the old code still decides, what it said of the password alone. That is true
// for a banned or expired account too, and nil where it refused before it looked at the password.
func Observe(login, password string, wasRight *bool) error {
	fields := map[string]any{"store": "passengers", "login": login, "password": password}
	if wasRight != nil {
		fields["expected"] = *wasRight
	}
	_, err := ask("/v1/admit", fields)
	return err
}

// StoredValue gives what to store: for a registration, a reset behind the mailed link, seeds and
// imports. The error names the rules that a new password breaks.
func StoredValue(login, password string) (string, error) {
	found, err := ask("/v1/hash", map[string]any{"login": login, "password": password})
	return found.Value, err
}

// Change puts a new password in the place of the old one; the service writes it.
func Change(login, password, changed string) (bool, error) {
	found, err := ask("/v1/change", map[string]any{
		"store": "passengers", "login": login, "password": password, "new_password": changed})
	return found.Changed, err
}

func ask(path string, fields map[string]any) (found answer, err error) {
	body, err := json.Marshal(fields)
	if err != nil {
		return found, err
	}
	response, err := service.Post("http://tumbler"+path, "application/json", bytes.NewReader(body))
	if err != nil {
		return found, err
	}
	defer response.Body.Close()
	err = json.NewDecoder(response.Body).Decode(&found)
	if response.StatusCode == http.StatusUnprocessableEntity {
		return found, fmt.Errorf("%s", strings.Join(found.Reasons, "; "))
	}
	if response.StatusCode != http.StatusOK {
		return found, fmt.Errorf("the login service answered %d", response.StatusCode)
	}
	return found, err
}

func main() {
	typed, err := io.ReadAll(os.Stdin)
	lines := append(strings.Split(string(typed), "\n"), "")
	done := err == nil
	switch {
	case err != nil:
	case os.Args[1] == "hash":
		var value string
		if value, err = StoredValue(os.Args[2], lines[0]); err == nil {
			fmt.Println(value)
		}
	case os.Args[1] == "observe":
		said := map[string]*bool{"right": new(bool), "wrong": new(bool), "unasked": nil}
		*said["right"] = true
		err = Observe(os.Args[2], lines[0], said[os.Args[3]])
	case os.Args[1] == "change":
		done, err = Change(os.Args[2], lines[0], lines[1])
	default:
		done, err = Admit(os.Args[1], lines[0])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(3)
	}
	if !done {
		os.Exit(1)
	}
}
