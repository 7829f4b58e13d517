package cli

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"

	"github.com/spf13/cobra"
)

func (a *app) scheduleTokenCommand() *cobra.Command {
	return explain(&cobra.Command{
		Use: "token", Short: "Make a token for who may call for runs from outside",
		Args: args(0, 0, ""),
		RunE: func(*cobra.Command, []string) error { return a.makeToken() },
	}, usage{`Makes a token, and prints it once, with the line for the configuration that knows it by its hash.
With [schedule] listen = "127.0.0.1:7643", whoever sends it may run a job now.`, [2]string{"grainkeep schedule token",
		"grainkeep schedule token --json"}})
}

func (a *app) makeToken() error {
	var secret [32]byte
	rand.Read(secret[:])
	token := base64.RawURLEncoding.EncodeToString(secret[:])
	sum := sha256.Sum256([]byte(token))
	hash := hex.EncodeToString(sum[:])
	a.print("%s\n", token)
	a.say("That is the token; it is shown this once. In the configuration:\n\n[schedule]\ntoken_sha256 = %q",
		block(hash))
	a.say("\nIt is sent so:  curl -X POST -H \"Authorization: Bearer $TOKEN\" http://127.0.0.1:7643/run/JOB")
	return a.emit(map[string]string{"token": token, "token_sha256": hash})
}
