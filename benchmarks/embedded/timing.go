// Prints how many seconds so many logins took, and as many runs of the bare primitive, by turns.
package main

import (
	"fmt"
	"os"
	"strconv"
	"time"

	"golang.org/x/crypto/argon2"

	"written/login"
)

func main() {
	value, checker := []byte(os.Args[1]), login.New(nil)
	logins, err := strconv.Atoi(os.Args[2])
	if err != nil {
		panic(err)
	}
	var own, bare time.Duration
	for number := 0; number < logins; number++ {
		start := time.Now()
		if _, err := checker.Check(login.Row{Stored: value}, "Gull 4711"); err != nil {
			panic(err)
		}
		own += time.Since(start)
		start = time.Now()
		argon2.IDKey([]byte("Gull 4711"), make([]byte, 16), 2, 19456, 1, 32)
		bare += time.Since(start)
	}
	fmt.Printf("[%f, %f]\n", own.Seconds(), bare.Seconds())
}
