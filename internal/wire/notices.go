package wire

import "time"

// Channel is where notices go.
type Channel struct {
	Name      string   `json:"name"`
	Of        string   `json:"of"` // webhook or mail
	To        string   `json:"to"`
	Person    string   `json:"person"`     // whose it is; empty: the farm's
	Events    []string `json:"events"`     // none: all
	Projects  []string `json:"projects"`   // none: all
	QuietFrom string   `json:"quiet_from"` // time of day, such as 22:00; empty: no quiet hours
	QuietTo   string   `json:"quiet_to"`
	Zone      string   `json:"zone"`
	Urgent    bool     `json:"urgent"`  // what is urgent is sent in quiet hours, too
	OnCall    bool     `json:"on_call"` // only while its person is on call
	Off       bool     `json:"off"`
	Why       string   `json:"why"`    // the farm has switched it off for this
	Secret    string   `json:"secret"` // with which messages are signed; told once, when it is made
	Etag      string   `json:"etag"`   // for If-Match
}

// Channels are the channels that somebody may see.
type Channels struct {
	Channels []Channel `json:"channels"`
	Events   []string  `json:"events"` // that notices can be about
	Mail     bool      `json:"mail"`   // the service has a mail server
}

// ChannelSet makes or changes a channel.
type ChannelSet struct {
	Of        string   `json:"of"`
	To        string   `json:"to"`
	Person    string   `json:"person"`
	Events    []string `json:"events"`
	Projects  []string `json:"projects"`
	QuietFrom string   `json:"quiet_from"`
	QuietTo   string   `json:"quiet_to"`
	Zone      string   `json:"zone"`
	Urgent    bool     `json:"urgent"`
	OnCall    bool     `json:"on_call"`
	Off       bool     `json:"off"`
	NewSecret bool     `json:"new_secret"`
}

// SentNotice is a notice on its way to a channel, or what became of it.
type SentNotice struct {
	ID      int64      `json:"id"`
	Channel string     `json:"channel"`
	Event   string     `json:"event"`
	Title   string     `json:"title"`
	MadeAt  time.Time  `json:"made_at"`
	State   string     `json:"state"`   // waiting, delivered, given up or dropped
	Message string     `json:"message"` // the message that tells it, maybe with others; empty: none yet
	Tries   int        `json:"tries"`
	NextAt  *time.Time `json:"next_at"`  // when it is sent, or tried again; null: it is not
	Answer  string     `json:"answer"`   // to the last try
	EndedAt *time.Time `json:"ended_at"` // null: it waits
}

// SentNotices is a page of notices, newest first.
type SentNotices struct {
	Notices []SentNotice `json:"notices"`
	Next    int64        `json:"next"` // before which the next page begins; 0: this is the last
}

// OnCall says who is told at night.
type OnCall struct {
	Now      []string `json:"now"`   // none: nobody is named, and all are told
	Turns    []Turn   `json:"turns"` // of the next seven days
	There    bool     `json:"there"` // there is a calendar
	Calendar string   `json:"-"`     // iCalendar
}

// Turn is a span of time in which somebody is on call.
type Turn struct {
	Person string    `json:"person"`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
}
