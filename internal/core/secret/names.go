package secret

import (
	"fmt"
	"slices"
	"strings"
)

// steering are names by which a loader, a shell, git, an interpreter or a tool
// runs code or goes elsewhere, by what they steer. A repository's secret is in
// the terminals of all who work there, beside their own secrets: whoever may set
// one must not decide what runs there. A name that ends in * stands for all that
// begin so.
var steering = []struct {
	why   string
	names []string
}{
	{"the shell runs it, or reads what it names", []string{"PROMPT_COMMAND", "PS0", "PS1", "PS2", "PS3", "PS4", "ENV", "BASH_*", "SHELLOPTS", "BASHOPTS", "ZDOTDIR", "FPATH", "CDPATH", "GLOBIGNORE", "HISTFILE", "INPUTRC", "FCEDIT", "IFS", "PATH", "SHELL", "HOME"}},
	{"the loader and the C library load what it names", []string{"LD_*", "DYLD_*", "GLIBC_TUNABLES", "GCONV_PATH", "LOCPATH", "NLSPATH", "MALLOC_*", "HOSTALIASES", "RESOLV_HOST_CONF", "LOCALDOMAIN"}},
	{"git runs it, or reads what it names", []string{"GIT_*", "SSH_ASKPASS*", "SUDO_ASKPASS"}},
	{"an interpreter runs it, or loads what it names", []string{"PYTHON*", "NODE_*", "NODE", "DENO_*", "BUN_*", "PERL*", "RUBY*", "GEM_*", "BUNDLE_*", "JAVA_TOOL_OPTIONS", "JDK_JAVA_OPTIONS", "_JAVA_OPTIONS", "CLASSPATH", "JAVA_HOME", "LUA_*", "PHPRC", "PHP_INI_SCAN_DIR", "ERL_*", "ELIXIR_ERL_OPTIONS", "R_PROFILE*", "R_ENVIRON*", "DOTNET_STARTUP_HOOKS", "CORECLR_*", "COR_*", "JULIA_*", "GUILE_LOAD_PATH", "TCLLIBPATH"}},
	{"a compiler or a build runs it", []string{"CC", "CXX", "LD", "AR", "MAKEFLAGS", "MAKEFILES", "GNUMAKEFLAGS", "GOFLAGS", "GOTOOLCHAIN", "GOROOT", "GOPROXY", "GONOSUMDB", "GOSUMDB", "GOPRIVATE", "RUSTC*", "RUSTFLAGS", "CARGO_*", "MAVEN_OPTS", "MAVEN_ARGS", "GRADLE_OPTS", "GRADLE_USER_HOME", "SBT_OPTS", "NPM_CONFIG_*", "npm_config_*", "PIP_*", "UV_*", "YARN_*", "PNPM_*", "CMAKE_*"}},
	{"a tool opens it as a program", []string{"EDITOR", "VISUAL", "PAGER", "BROWSER", "MANPAGER", "LESS", "LESSOPEN", "LESSCLOSE", "LESSKEY*", "TERMINFO*", "TERM", "TERMCAP", "DISPLAY", "XAUTHORITY", "TMPDIR", "DOCKER_HOST", "DOCKER_CONFIG", "KUBECONFIG"}},
	{"what goes out would go where it says", []string{"HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY", "FTP_PROXY", "NO_PROXY", "http_proxy", "https_proxy", "all_proxy", "ftp_proxy", "no_proxy", "SSL_CERT_*", "CURL_CA_BUNDLE", "CURL_HOME", "REQUESTS_CA_BUNDLE", "OPENSSL_*", "SSLKEYLOGFILE", "AWS_ENDPOINT_URL*", "SSH_AUTH_SOCK", "KRB5*"}},
	{"the session says it itself", []string{"USER", "LOGNAME", "PWD", "OLDPWD", "YARDBENCH_*"}},
}

// opens are the endings of names that hold what opens something, and steer
// nothing: of those that begin like a tool's settings.
var opens = []string{"_TOKEN", "_PASSWORD", "_SECRET", "_API_KEY"}

// Steers tells what a variable of the name would steer, in the terminal of
// whoever has it; "" where nothing is known.
func Steers(name string) string {
	for _, s := range steering {
		for _, n := range s.names {
			p, all := strings.CutSuffix(n, "*")
			if n == name || all && strings.HasPrefix(name, p) && !slices.ContainsFunc(opens, func(end string) bool { return strings.HasSuffix(strings.TrimSuffix(name, "_FILE"), end) }) {
				return s.why
			}
		}
	}
	return ""
}

// CheckSharedName tells what is wrong with the name of a secret that others than
// its owner get, if anything. In the form of a file its variable is NAME_FILE,
// which counts too.
func CheckSharedName(name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	for _, n := range []string{name, name + "_FILE"} {
		if why := Steers(n); why != "" {
			return fmt.Errorf("%q cannot be a repository's secret: %s, in the terminals of all who work there; choose another name, or let each person set their own", name, why)
		}
	}
	return nil
}
