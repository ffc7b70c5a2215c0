// Command login asks the login service over its Unix socket, with the standard library alone.
//
//	SERVICE=/run/lean-tumbler/login.sock go run login.go LOGIN < password.txt
//
// It ends with 0 for yes and 1 for no.
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

// Admit tells whether a password is right. An error is no answer: a service that is busy must let
// nobody in, and lock nobody out.
func Admit(login, password string) (bool, error) {
	body, err := json.Marshal(map[string]string{"store": "passengers", "login": login, "password": password})
	if err != nil {
		return false, err
	}
	response, err := service.Post("http://tumbler/v1/admit", "application/json", bytes.NewReader(body))
	if err != nil {
		return false, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return false, fmt.Errorf("the login service answered %d", response.StatusCode)
	}
	var answer struct {
		Admitted bool `json:"admitted"`
	}
	err = json.NewDecoder(response.Body).Decode(&answer)
	return answer.Admitted, err
}

func main() {
	typed, err := io.ReadAll(os.Stdin)
	if err == nil {
		var admitted bool
		if admitted, err = Admit(os.Args[1], strings.TrimSuffix(string(typed), "\n")); err == nil {
			if !admitted {
				os.Exit(1)
			}
			return
		}
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(3)
}
