package local

import (
	"context"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
)

// bundleAt is where commands find the certificates that they are to believe.
const bundleAt = "/run/imbricat/authorities.pem"

// bundles are where images keep the certificates of public authorities; the first that is there counts.
var bundles = []string{"etc/ssl/certs/ca-certificates.crt", "etc/pki/tls/certs/ca-bundle.crt", "etc/ssl/ca-bundle.pem", "etc/ssl/cert.pem"}

// bundleVariables are those by which programs and libraries are told of such a file.
var bundleVariables = []string{"SSL_CERT_FILE", "CURL_CA_BUNDLE", "REQUESTS_CA_BUNDLE", "PIP_CERT", "NODE_EXTRA_CA_CERTS", "GIT_SSL_CAINFO", "CARGO_HTTP_CAINFO"}

// vouch shows a command with a network the certificates of private authorities, together with those that its view has, and tells programs
// of them by variables that the step does not set. As a secret they are in no layer and no part of what the command is given.
func (l *Local) vouch(ctx context.Context, job executor.Job, spec *sandbox.Spec) error {
	if !job.Outside() || len(l.trusted) == 0 {
		return nil
	}
	at, err := job.View.Index.Resolve(strings.TrimPrefix(bundleAt, "/"), true)
	if err != nil {
		return err
	}
	public, err := l.publicBundle(ctx, job)
	if err != nil {
		return err
	}
	spec.Files = append(spec.Files, sandbox.Secret{At: "/" + at, Content: append(public, l.trusted...), Mode: 0o644})
	spec.Env = slices.Clone(spec.Env)
	for _, name := range bundleVariables {
		if !slices.ContainsFunc(spec.Env, func(pair string) bool { return strings.HasPrefix(pair, name+"=") }) {
			spec.Env = append(spec.Env, name+"="+bundleAt)
		}
	}
	return nil
}

// publicBundle returns what the view of a command keeps of public authorities, with a line end; nothing where it has none.
func (l *Local) publicBundle(ctx context.Context, job executor.Job) ([]byte, error) {
	for _, path := range bundles {
		real, err := job.View.Index.Resolve(path, true)
		if err != nil {
			continue
		}
		n, exists := job.View.Index.Lookup(real)
		if !exists || n.Kind != tree.File {
			continue
		}
		text, err := account.Finder{Store: l.store}.Content(ctx, n, real)
		return append(text, '\n'), err
	}
	return nil, nil
}
