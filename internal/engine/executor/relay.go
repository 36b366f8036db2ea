package executor

import "fmt"

// RelayPort is where a command with Hosts finds the relay through which it reaches them, on its loopback. It is part of such commands' keys.
const RelayPort = 47100

// RelayVariables are what tells programs of the relay, as NAME=VALUE. Some programs know one spelling alone.
func RelayVariables() []string {
	proxy, without := fmt.Sprintf("http://127.0.0.1:%d", RelayPort), "localhost,127.0.0.1,::1"
	return []string{"HTTPS_PROXY=" + proxy, "HTTP_PROXY=" + proxy, "NO_PROXY=" + without, "http_proxy=" + proxy, "https_proxy=" + proxy, "no_proxy=" + without}
}
