package definition

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"yardbench/internal/core/plain"
)

// portLabels reads the labels of ports; the other attributes are for editors.
func (d layerDoc) portLabels(out *Definition, attributes map[string]any) {
	for _, k := range sortedKeys(attributes) {
		_, number, ofService := strings.Cut(k, ":") // as in forwardPorts
		if !ofService {
			number = k
		}
		port, err := strconv.Atoi(number)
		a, _ := attributes[k].(map[string]any)
		for _, name := range sortedKeys(a) {
			if !d.loose && !slices.Contains(portAttributes, name) {
				checkDoc(d).unknown(name, d.at("portsAttributes", k, name), portAttributes, "portsAttributes")
			}
		}
		label, _ := a["label"].(string)
		if err != nil || label == "" || port < 1 || port > 65535 {
			continue // a range or a pattern, or nothing for us
		}
		if out.PortLabels == nil {
			out.PortLabels = map[int]string{}
		}
		if label = plain.Text(label); len([]rune(label)) > 60 {
			label = string([]rune(label)[:60])
		}
		if _, nearer := out.PortLabels[port]; !nearer {
			out.PortLabels[port] = label
			d.origin(out, fmt.Sprintf("port_labels.%d", port), "portsAttributes", k)
		}
	}
}

// portAttributes are what the specification says of a port.
var portAttributes = []string{"elevateIfNeeded", "label", "onAutoForward", "protocol", "requireLocalPort"}

// MaxPorts bounds the forwarded ports.
const MaxPorts = 200

func (d layerDoc) ports(out *Definition, values []any) {
	for i, val := range values {
		element := strconv.Itoa(i)
		host, port := "", 0
		switch p := val.(type) {
		case float64:
			if p == math.Trunc(p) && p >= 1 && p <= 65535 {
				port = int(p)
			}
		case string: // "host:port" names another service
			h, text, ok := strings.Cut(p, ":")
			if !ok {
				h, text = "", p
			}
			if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= 65535 {
				host, port = h, n
			}
			if host == "localhost" {
				host = ""
			}
			if host != "" && !out.hasService(host) {
				d.say(Error, d.at("forwardPorts", element), "name a service of the compose file, or the port alone", "%q in forwardPorts names no service", p)
				continue
			}
		}
		if port == 0 {
			d.say(Error, d.at("forwardPorts", element), "give numbers from 1 to 65535", "%s in forwardPorts is no port", inWords(val))
			continue
		}
		d.port(out, port, host, "forwardPorts", element)
	}
}

func (d layerDoc) port(out *Definition, port int, host string, property ...string) {
	if slices.Contains(out.Ports, port) {
		if other := out.PortHosts[port]; host != "" && host != other {
			d.rule("not-honoured", Warning, d.at(property...), "have one of the two listen on another port", "port %d of service %q is not forwarded: that number is %q's", port, host, cmp.Or(other, "the workspace"))
		}
		return
	}
	if len(out.Ports) >= MaxPorts {
		d.say(Error, d.at(property...), "take some out", "more than %d ports are forwarded", MaxPorts)
		return
	}
	out.Ports = append(out.Ports, port)
	if host != "" {
		if out.PortHosts == nil {
			out.PortHosts = map[int]string{}
		}
		out.PortHosts[port] = host
	}
	d.origin(out, fmt.Sprintf("ports.%d", port), property...)
}

// appPorts reads the older way of publishing ports: numbers, or HOST:CONTAINER.
func (d layerDoc) appPorts(out *Definition, value any) {
	if value == nil {
		return
	}
	list, ok := value.([]any)
	if !ok {
		list = []any{value}
	}
	for _, p := range list {
		text := fmt.Sprint(p)
		n, err := strconv.Atoi(text[strings.LastIndexByte(text, ':')+1:])
		if err != nil || n < 1 || n > 65535 {
			d.say(Error, d.at("appPort"), "give numbers from 1 to 65535, in forwardPorts", "%s in appPort is no port", inWords(p))
			continue
		}
		d.port(out, n, "", "appPort")
	}
}
