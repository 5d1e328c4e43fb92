package control

import (
	"time"

	"fencepost/server/zonestate"
)

// StatusVersion is the version of the form of Status. Fields may come without a new one.
const StatusVersion = 1

// Status is what a server says of itself. The field names are documented output.
type Status struct {
	Version   int          `json:"version"`
	Started   time.Time    `json:"started"`
	Now       time.Time    `json:"now"`
	Listen    []string     `json:"listen"`
	Questions uint64       `json:"questions_udp"`
	TCP       uint64       `json:"questions_tcp"`
	Transfers uint64       `json:"transfers_sent"`
	Changes   uint64       `json:"transfers_of_changes_sent"` // of these, those of what changed alone
	Zones     []ZoneStatus `json:"zones"`
	// Secrets says why some secrets are not there; what needs one is not done.
	Secrets string `json:"secrets_trouble,omitempty"`
	// Unstored says why nothing can be stored; changes by messages are refused.
	Unstored string `json:"unstored,omitempty"`
	// SetAside are files of stored versions that were damaged, and notes of some that were lost.
	SetAside []string `json:"store_set_aside,omitempty"`
}

// ZoneStatus is the state of one zone; see zonestate.ZoneStatus.
type ZoneStatus struct {
	Zone     string    `json:"zone"`
	Audience string    `json:"audience,omitempty"` // whose version it is; without one: everyone's
	Role     string    `json:"role"`               // primary or secondary
	State    string    `json:"state"`              // serving, loading, expired, waiting or failed
	Serial   uint32    `json:"serial,omitempty"`
	Source   uint32    `json:"source_serial,omitempty"` // where we sign: the serial of the unsigned zone
	Signed   bool      `json:"signed"`
	Names    int       `json:"names"`
	Records  int       `json:"records"`
	Since    time.Time `json:"since,omitzero"`

	Trouble  zonestate.Trouble `json:"trouble,omitempty"`
	Troubled time.Time         `json:"troubled_since,omitzero"`

	From      string    `json:"from,omitempty"`
	Checked   time.Time `json:"checked,omitzero"`
	NextCheck time.Time `json:"next_check,omitzero"`
	Expires   time.Time `json:"expires,omitzero"`
	Failing   time.Time `json:"failing_since,omitzero"`

	Signatures time.Time `json:"signatures_expire,omitzero"`
	Renew      time.Time `json:"signatures_renewed,omitzero"`

	Kept      bool           `json:"kept,omitempty"`
	Problem   string         `json:"problem,omitempty"`
	Warning   string         `json:"warning,omitempty"`    // what is odd about the version in service
	NotStored string         `json:"not_stored,omitempty"` // why it could not be stored
	Keys      *KeyState      `json:"keys,omitempty"`       // where we sign
	Peers     []PeerStatus   `json:"peers,omitempty"`
	Catalog   string         `json:"catalog,omitempty"` // the one that lists the zone
	Members   int            `json:"members,omitempty"` // of a catalog that is followed
	Clashes   string         `json:"clashes,omitempty"` // why it is not followed in all
	Follows   []FollowStatus `json:"follows,omitempty"`
	Children  []ChildStatus  `json:"children_refused,omitempty"`
	Pending   int            `json:"pending,omitempty"` // record sets that messages changed and the files do not have
}

// KeyState is what is told of the keys of a zone; see keymanager.State.
type KeyState struct {
	Rollover string   `json:"rollover,omitempty"`
	Step     string   `json:"step,omitempty"`
	Waits    []string `json:"waits,omitempty"`
	DS       string   `json:"ds,omitempty"`
	DSWrong  bool     `json:"ds_wrong,omitempty"`
	// NextForDS is what to do about it, in words.
	NextForDS string `json:"next_for_ds,omitempty"`
	Stuck     bool   `json:"stuck,omitempty"`
}

// ChildStatus is a request of a child that is not followed.
type ChildStatus struct {
	Child   string    `json:"child"`
	Since   time.Time `json:"since,omitzero"`
	Problem string    `json:"problem"`
}

// FollowStatus says how far the addresses of a name have followed; see zonestate.FollowState.
type FollowStatus struct {
	Owner   string    `json:"owner"`
	Source  string    `json:"source"`
	Checked time.Time `json:"checked,omitzero"`
	Failing time.Time `json:"failing_since,omitzero"`
	Next    time.Time `json:"next,omitzero"`
	Problem string    `json:"problem,omitempty"`
}

// PeerStatus says whether a peer was told of the present version; see zonestate.PeerStatus.
type PeerStatus struct {
	Peer    string `json:"peer"`
	Address string `json:"address"`
	Told    bool   `json:"told"`
	Fetched bool   `json:"fetched"`
	Tries   int    `json:"tries,omitempty"`
	Newer   bool   `json:"newer,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// StatusOf is the state of a server in the form that is sent; explain puts errors into words.
func StatusOf(s zonestate.Status, explain func(error) string) Status {
	out := Status{Version: StatusVersion, Started: s.Started, Now: s.Now, Listen: s.Listen, Questions: s.Questions, TCP: s.TCP, Transfers: s.Transfers, Changes: s.Changes}
	for i := range s.Zones {
		out.Zones = append(out.Zones, zoneStatus(&s.Zones[i], explain))
	}
	return out
}

func zoneStatus(z *zonestate.ZoneStatus, explain func(error) string) ZoneStatus {
	text := func(err error) string {
		if err == nil {
			return ""
		}
		return explain(err)
	}
	out := ZoneStatus{Zone: z.Zone, Audience: z.Audience, Role: z.Role, State: z.State, Serial: z.Serial, Source: z.Source, Signed: z.Signed, Names: z.Names, Records: z.Records, Since: z.Since,
		Trouble: z.Trouble, Troubled: z.Troubled, From: z.From, Checked: z.Checked, NextCheck: z.NextCheck, Expires: z.Expires, Failing: z.Failing,
		Signatures: z.Signatures, Renew: z.Renew, Kept: z.Kept, Problem: text(z.Problem), Warning: z.Warning, NotStored: text(z.NotStored), Pending: z.Pending, Catalog: z.Catalog, Members: z.Members, Clashes: z.Clashes}
	if z.Keys != nil {
		k := KeyState(*z.Keys)
		out.Keys = &k
	}
	for _, f := range z.Follows {
		out.Follows = append(out.Follows, FollowStatus{f.Owner, f.Source, f.Checked, f.Failing, f.Next, text(f.Problem)})
	}
	for _, p := range z.Peers {
		out.Peers = append(out.Peers, PeerStatus{p.Peer, p.Address, p.Told, p.Fetched, p.Tries, p.Newer, text(p.Problem)})
	}
	return out
}
