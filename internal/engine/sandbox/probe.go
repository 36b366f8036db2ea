package sandbox

// Seen is what a program of ours saw of the world in a sandbox.
type Seen struct {
	// What is the same for every command.
	Host       string   `json:"host"`
	Umask      string   `json:"umask"`
	User       string   `json:"user"` // its ids and groups
	Env        []string `json:"env"`
	Dir        string   `json:"dir"`
	Limits     []string `json:"limits"`     // of resources
	Interfaces []string `json:"interfaces"` // of the network
	Ignored    string   `json:"ignored"`    // signals

	// What may differ.
	Clock      int64    `json:"clock"` // in seconds
	Release    string   `json:"release"`
	PID        int      `json:"pid"`
	Processors int      `json:"processors"`
	Names      []string `json:"names"` // of a folder, in the order of its list
	Address    uint64   `json:"address"`
}

// probeNames are those of the folder that a probe lists.
var probeNames = []string{"ebb", "flood", "gauge", "neap", "pier", "spring", "tide"}
