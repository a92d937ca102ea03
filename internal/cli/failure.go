package cli

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/practice"

	"github.com/urfave/cli/v3"
)

// The exit codes: one rule for every command (lantern help exit-codes).
const (
	ExitDone        = 0
	ExitFailed      = 1 // it was tried, and failed
	ExitUsage       = 2 // wrong usage: no such command, option, column, drive; or an ambiguous name
	ExitRefused     = 3 // refused: by a check, or not permitted
	ExitUnreachable = 4 // the service cannot be reached
	ExitNeedsHand   = 5 // something needs a person; only from round --exit-code
)

// Failure is an error with its exit code.
type Failure struct {
	Code     int
	Says     string
	practice bool
}

func (f *Failure) Error() string { return f.Says }

// Says is the text of an error for people.
func Says(err error) string {
	says := "lantern: " + harmless.Text(err.Error())
	var f *Failure
	if errors.As(err, &f) && f.practice {
		says = practice.Lines(says)
	}
	return says
}

func usage(format string, args ...any) error {
	return &Failure{Code: ExitUsage, Says: fmt.Sprintf(format, args...)}
}

// Code is the exit code of an error.
func Code(err error) int {
	var f *Failure
	var coder cli.ExitCoder
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &f):
		return f.Code
	case errors.As(err, &coder):
		return coder.ExitCode()
	}
	return ExitFailed
}

// unreachable says why the service cannot be reached: its certificate, or no answer.
func unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	if f := (*Failure)(nil); errors.As(err, &f) {
		return f // it was never sent
	}
	var untrusted x509.UnknownAuthorityError
	var named x509.HostnameError
	var bad x509.CertificateInvalidError
	do := ""
	switch {
	case errors.As(err, &bad) && bad.Reason == x509.Expired:
		do = "The service runs, but its certificate has expired, or the clock of one of the two machines is wrong."
	case errors.As(err, &named):
		do = "The service runs, but its certificate is for another name. Use the name that the certificate is for."
	case errors.As(err, &untrusted), errors.As(err, &bad):
		do = "The service runs, but its certificate is not trusted here. Trust its authority, or name the right service."
	}
	if do != "" {
		return &Failure{Code: ExitUnreachable, Says: "the service cannot be reached: " + err.Error() + "\n" + do}
	}
	return &Failure{
		Code: ExitUnreachable,
		Says: "the service cannot be reached: " + err.Error() + "\nIs it running? Its address is given by " +
			"--server, LANTERN_SERVER or the configuration file.",
	}
}

// told converts problem details to an error with its exit code.
func told(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		return &Failure{Code: ExitFailed, Says: fmt.Sprintf("the service answered %d", status)}
	}
	f := &Failure{Code: ExitFailed, Says: strings.TrimSpace(p.Title + " " + p.Detail)}
	switch {
	case status == http.StatusBadRequest, status == http.StatusNotFound, status == http.StatusUnprocessableEntity,
		p.Type == api.ProblemTypeAmbiguous:
		f.Code = ExitUsage
	case status == http.StatusConflict, status == http.StatusPreconditionFailed, status == http.StatusForbidden:
		f.Code = ExitRefused
	case status == http.StatusUnauthorized:
		f.Code = ExitRefused
		f.Says += " The token is taken from LANTERN_TOKEN or the configuration file."
	}
	return f
}
