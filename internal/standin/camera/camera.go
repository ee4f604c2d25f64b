// Package camera is a stand-in camera: a real server on a loopback address that
// speaks WS-Discovery, ONVIF, RTSP and JPEG over HTTP with its own clock, accounts
// and analytics. Its faults are how it behaves; no page reads them from here.
package camera

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/ntp"
	"duskyharbor/internal/standin/wire"
)

// Ports of every stand-in camera on its own address.
const (
	HTTPPort    = 8080
	tlsPort     = 8443
	RTSPPort    = 8554
	RTSPSPort   = 8322
	ControlPort = 8099
)

// Config describes one camera as it leaves the box, and what was done to it since.
type Config struct {
	Place, Make, Model, Serial, MAC, UUID, Firmware string
	Address                                         netip.Addr
	Network                                         netip.Prefix // multicast is heard from here alone
	// Username and Password are its first account, an administrator's; no name means
	// that no first password was set yet.
	Username, Password                  string
	TakesDigest, TakesToken, TakesBasic bool
	Window                              time.Duration // of a token's Created
	Skew                                time.Duration // its clock − true time
	Zone                                string
	Daylight                            bool
	Scene                               footage.Scene
	Scenes                              []footage.Scene // of further sources; missing ones are Scene
	StateFile                           string          // empty: nothing is kept
	// Quiet leaves out what costs a camera of a thousand: moving analytics and the
	// control port.
	Quiet bool
	// NoAnalytics leaves out the moving analytics alone.
	NoAnalytics bool
	// Fed is set for what has no picture of its own and is told what is seen, see Tell: an analyser's side of ONVIF. Classes are what it
	// tells apart.
	Fed     bool
	Classes []string
	// Refuses lists operations that this make keeps locked: it answers them with a
	// fault, whoever asks.
	Refuses []string

	Manners Manners // how this make is on the wire
	Quirks  Quirks
}

// Manners are what a make does otherwise than others.
type Manners struct {
	WebOnly     bool          // the first account opens the web page and, until ONVIF has one of its own, CreateUsers alone
	Strict      bool          // its complexity rule: 10 characters, upper and lower case, a digit and a sign
	LockAfter   int           // wrong sign-ins within LockFor that lock it; 0: never
	LockFor     time.Duration //
	Media1      bool          // it knows Media ver10 alone
	NoServices  bool          // it is older than GetServices: GetCapabilities tells its services
	TLS         bool          // HTTPS alone, self-signed
	RTSPOnly    bool          // no web port and no discovery
	NoONVIF     bool          // its web page answers, ONVIF is switched off
	NoDirected  bool          // it ignores probes to its own address
	Silent      bool          // its discovery is switched off
	Twice       bool          // it answers every probe twice
	Slow        time.Duration // before each answer
	Drops       int           // it hangs up on every so many-th request; 0: on none
	Dialect     int           // 1: BOM and other prefixes; 2: default namespaces; 3: comments, chunked
	OldPage     bool          // its page wants a plug-in
	Shadow      string        // UUID of a second device on the same address
	DriftPPM    float64       // parts per million, fast where above zero
	Speed       float64       // how much faster its crystal ages; 0 is 1
	NTPServers  []string      // it was told to ask these
	DateOrder   string        // of the text burned in, as tt:DateFormat; empty: day first
	Clock12     bool          // the text burned in has 12 hours
	SpellsZone  bool          // it spells a zone's rule out in its own way
	GivesHost   string        // host in the stream addresses that it gives
	Sources     []string      // names of its video sources; empty: one
	SeesOnAll   bool          // its analytics look through all of them, not the first alone
	Behind      netip.Addr    // it is heard from this address alone
	MaskBits    int           // 0: as Network
	Gateway     string        // empty: the first address of Network
	FactoryAt   netip.Addr    // where a hard reset leaves it; invalid: where it is
	Lease       netip.Addr    // what its network hands out; invalid: nothing does
	LeaseNTP    string        // time server that its network hands out
	RenewsUUID  bool          // a reset gives it another UUID
	LosesClock  bool          // a restart does
	OnlyUDP     bool          // it sends RTP over UDP alone
	RestartTime time.Duration // how long it is away; 0: 1.5 s
	Lost        bool          // a move takes it off the network for good
	NonceLife   time.Duration // of a Digest nonce; 0: 5 min
	CountsStale bool          // a nonce that is too old counts as a wrong password
	// RTSPUser and RTSPPassword are the account of its streams where that is another.
	RTSPUser, RTSPPassword string
	Codec                  string // what it is set to at first where its encoder offers that
	JPEG                   bool   // its encoder offers JPEG too
	LongKeys               bool   // it is set to rare key frames
	Sound                  string // codec of its sound, as ONVIF Media2 names it; empty: it has none
	Speaker                bool
	Masks                  int  // how many parts of its picture it hides; 0: none
	PTZ                    bool // its first source can be moved
	PTZByPlaces            bool // to places alone: it knows no velocity and no field of view
	Imaging                bool // it tells how it takes its pictures
	Sessions               int  // how many streams it plays at the same time; 0: any number
	// Group is where each of its streams is set to be sent to at first, the same in every camera of the make; NoGroups
	// says that it knows no multicast.
	Group    netip.AddrPort
	NoGroups bool
	// PlainRules says that its rules know lines and areas alone, and no classes; OwnRule is a rule of the make's own type
	// that it has besides, as it tells it.
	PlainRules bool
	OwnRule    string
	NoRules    bool // it has no analytics
	// Engine is what its analytics do their own way.
	Engine EngineHabits
}

// EngineHabits are what a make's analytics do otherwise than others. The zero EngineHabits are what the standard's examples do.
type EngineHabits struct {
	Middle   bool              // its rules look at the middle of a box, not at its foot
	Shifted  scene.Point       // its boxes lie so far from what they are about, in frame units
	Late     time.Duration     // they are told of so much later pictures
	LosesIDs time.Duration     // an object gets another id so often; 0: never
	Words    map[string]string // its own words for classes
	Dress    bool              // it tells colours, and what someone carries or wears
	NoBoxes  bool              // it sends no metadata
	Zips     bool              // it sends it as gzip
	Forgets  bool              // a restart loses its rules
	Counts   scene.Frame       // in which its rules' drawings are
	Grid     scene.Grid        // of the cells by which it sees motion; none: it has no rules of those
	Crops    bool              // it sends a picture of each thing once it sees it
	OwnTypes string            // namespace of rule types of its own, for what the standard has none; empty: it has none
	Over     bool              // it hangs upside down and turns its picture by 180°: its analytics look at the one of before
}

// Quirks are what an encoder does that its options don't tell.
type Quirks struct {
	Depends       bool // its large picture goes to 5/s alone, and H.265 has no limit of bit rate
	Lies          bool // it takes any limit of bit rate, and keeps 1024 kbit/s at the least
	RestartsOnSet bool // a setting starts it again
}

// Behave gives its encoders these quirks from now on.
func (c *Camera) Behave(q Quirks) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Quirks = q
}

// Think gives its analytics these habits from now on.
func (c *Camera) Think(e EngineHabits) {
	c.mu.Lock()
	c.turned.Engine = e
	c.mu.Unlock()
	c.events.follow(c.memory())
}

func (c *Camera) habits() EngineHabits {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.turned.Engine
}

func (c *Camera) quirks() Quirks {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.turned.Quirks
}

// user is one account.
type user struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Level    string `json:"level"`
	WebOnly  bool   `json:"web_only"`
}

// memory is what survives a restart.
type memory struct {
	Skew     time.Duration `json:"skew"`
	Since    time.Time     `json:"since"` // from when on drift adds to Skew
	Zone     string        `json:"zone"`
	Daylight bool          `json:"daylight"`
	NTP      bool          `json:"ntp"`
	FromDHCP bool          `json:"from_dhcp"`
	Servers  []string      `json:"servers"`
	Rules    []rule.Rule   `json:"rules"`
	Senses   *int          `json:"senses,omitempty"` // its sensitivity to motion, where it was set
	Beside   [][]rule.Rule `json:"beside,omitempty"` // of its further sources that the analytics look through
	Users    []user        `json:"users"`
	Address  netip.Addr    `json:"address"`
	Bits     int           `json:"bits"`
	Gateway  string        `json:"gateway"`
	DNS      []string      `json:"dns,omitempty"` // name servers, by hand
	DHCP     bool          `json:"dhcp"`
	UUID     string        `json:"uuid"`
	Hidden   bool          `json:"hidden"` // its discovery is switched off
	Date     string        `json:"date"`
	Time     string        `json:"time"`
	Wrong    []time.Time   `json:"wrong"` // sign-ins
	Cert     wire.KeyPair  `json:"cert"`

	Encoders map[string]encoder `json:"encoders,omitempty"` // by profile, where they were set
	Casts    map[string]cast    `json:"casts,omitempty"`    // by profile, where they were set
	Sound    string             `json:"sound,omitempty"`
	Mute     []string           `json:"mute,omitempty"` // profiles whose sound was taken out
	Night    bool               `json:"night,omitempty"`
	Name     string             `json:"name,omitempty"` // as its scope has it, percent-encoded

	NoTime   bool            `json:"no_time,omitempty"` // date and time were taken out of its picture
	Corner   string          `json:"corner,omitempty"`  // in which they stand
	Overlays []overlay       `json:"overlays,omitempty"`
	Masks    []mask          `json:"masks,omitempty"`
	Imaging  map[int]imaging `json:"imaging,omitempty"` // by source, where it was set
	Aim      aim             `json:"aim,omitzero"`
	Presets  []preset        `json:"presets,omitempty"`
	Made     int             `json:"made,omitempty"` // tokens that it gave out
}

// turned is what of its configuration can be turned while it runs.
type turned struct {
	Quirks  Quirks
	Engine  EngineHabits
	Speed   float64
	Window  time.Duration
	Refuses []string
	Shadow  string
	Stalls  []string       // operations that it takes and never answers
	Plays   int            // how many streams at the same time, where it was limited since
	Loses   int            // one packet of so many; 0: none
	Wavers  time.Duration  // how much later than due a picture may come
	Scene   *footage.Scene // what its first source looks at instead; nil: what it was hung up to see
}

// Camera is one running stand-in.
type Camera struct {
	cfg    Config
	digest *wire.Digest
	rtsp   *wire.Digest
	line   *timeline
	events *hub

	mu       sync.Mutex
	mem      memory
	turned   turned
	nonces   map[string]time.Time
	served   map[string]int        // operations that were done, by name
	sessions map[*rtspSession]bool // that play
	codings  map[string]*encoding  // by what is coded, see play
	stills   struct {
		sync.Mutex
		of map[string]codedStill // by profile
	}
	speaker speaker
	motion  motion // of its first source
	fed     fed
	asked   atomic.Int64  // requests to its services, see Manners.Drops
	ask     chan struct{} // wakes the NTP client
	away    func()        // takes it off the network; nil while it is away
	present context.Context
	casts   map[string]context.CancelFunc // streams that are sent to groups, by profile
	ctx     context.Context
	stop    context.CancelFunc
	done    sync.WaitGroup
}

// Start brings a camera up; it runs until ctx ends or Close is called.
func Start(ctx context.Context, cfg Config) (*Camera, error) {
	c := &Camera{cfg: cfg, turned: turned{Quirks: cfg.Quirks, Engine: cfg.Manners.Engine, Speed: cfg.Manners.Speed, Window: cfg.Window, Refuses: cfg.Refuses,
		Shadow: cfg.Manners.Shadow}, nonces: map[string]time.Time{}, served: map[string]int{}, sessions: map[*rtspSession]bool{}, casts: map[string]context.CancelFunc{}, ask: make(chan struct{}, 1)}
	c.mem = cfg.fresh()
	if err := wire.Load(cfg.StateFile, &c.mem); err != nil {
		return nil, fmt.Errorf("%s: its kept state: %w", cfg.Place, err)
	}
	c.digest = &wire.Digest{Realm: cfg.Model, Password: c.passwordOf}
	c.digest.Life = cfg.Manners.NonceLife
	c.rtsp = c.digest
	if user := cfg.Manners.RTSPUser; user != "" {
		c.rtsp = &wire.Digest{Realm: cfg.Model, Life: cfg.Manners.NonceLife,
			Password: func(u string) (string, bool) { return cfg.Manners.RTSPPassword, u == user }}
	}
	c.line = newTimeline()
	c.events = newHub(c)
	c.ctx, c.stop = context.WithCancel(ctx)
	if err := c.up(); err != nil {
		c.Close()
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	c.run(func() { c.follow(c.ctx) })
	if !cfg.Quiet && !cfg.NoAnalytics && !cfg.Fed {
		c.run(func() { c.watch(c.ctx) })
	}
	return c, nil
}

// fresh is what the camera remembers as it leaves the box and the installer.
func (cfg Config) fresh() memory {
	m := memory{Skew: cfg.Skew, Since: time.Now(), Zone: cfg.Zone, Daylight: cfg.Daylight,
		Rules: slices.Clone(cfg.Scene.Rules), NTP: len(cfg.Manners.NTPServers) > 0, Servers: cfg.Manners.NTPServers,
		Address: cfg.Address, Bits: cfg.Manners.MaskBits, Gateway: cfg.Manners.Gateway, UUID: cfg.UUID, Hidden: cfg.Manners.Silent, Sound: cfg.Manners.Sound, Date: cfg.Manners.DateOrder, Time: "HH:mm:ss"}
	for i := 1; i < len(cfg.Manners.Sources) && cfg.Manners.SeesOnAll; i++ {
		m.Beside = append(m.Beside, slices.Clone(cfg.Scene.Rules))
	}
	if cfg.Username != "" {
		m.Users = []user{{cfg.Username, cfg.Password, "Administrator", cfg.Manners.WebOnly}}
	}
	if m.Bits == 0 {
		m.Bits = cfg.Network.Bits()
	}
	if m.Gateway == "" && cfg.Network.IsValid() {
		m.Gateway = cfg.Network.Masked().Addr().Next().String()
	}
	if m.Date == "" {
		m.Date = "dd/MM/yyyy"
	}
	if cfg.Manners.Clock12 {
		m.Time = "hh:mm:ss tt"
	}
	return m
}

func (c *Camera) run(f func()) {
	c.done.Add(1)
	go func() {
		defer c.done.Done()
		f()
	}()
}

// Close ends the camera and waits for its servers.
func (c *Camera) Close() {
	c.stop()
	c.done.Wait()
}

// Config is what the camera was started with.
func (c *Camera) Config() Config { return c.cfg }

// Now is the camera's own time.
func (c *Camera) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.skew(c.mem))
}

// skew is how far the clock is off now: where it was set, and what it drifted since.
func (c *Camera) skew(m memory) time.Duration {
	speed := c.turned.Speed
	if speed == 0 {
		speed = 1
	}
	return m.Skew + time.Duration(float64(time.Since(m.Since))*c.cfg.Manners.DriftPPM*speed/1e6)
}

// stand sets the clock d off true time.
func (m *memory) stand(d time.Duration) { m.Skew, m.Since = d, time.Now() }

// Alone takes the second device off its address.
func (c *Camera) Alone() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Shadow = ""
}

// Restart starts it again, as SystemReboot does.
func (c *Camera) Restart() { c.leave(0) }

// Refuse keeps an operation locked from now on.
func (c *Camera) Refuse(op string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Refuses = append(slices.Clone(c.turned.Refuses), op)
}

// Stall makes it take an operation and never answer it from now on; an empty one lets it
// answer all again.
func (c *Camera) Stall(op string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Stalls = nil
	if op != "" {
		c.turned.Stalls = []string{op}
	}
}

// Wrongs is how many wrong sign-ins it counts against whoever signs in.
func (c *Camera) Wrongs() int { return len(c.memory().Wrong) }

// Windowed makes it take tokens that are at most d off from now on.
func (c *Camera) Windowed(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Window = d
}

// Hurry makes its crystal age speed times as fast from now on.
func (c *Camera) Hurry(speed float64) {
	c.change(func(m *memory) {
		m.stand(c.skew(*m))
		c.turned.Speed = speed
	})
}

// Step sets its clock d off true time by hand, as someone at its own page would.
func (c *Camera) Step(d time.Duration) { c.change(func(m *memory) { m.stand(d); m.NTP = false }) }

// At is where the camera is now.
func (c *Camera) At() netip.Addr { return c.memory().Address }

// DNS is its name servers, as it was given them by hand.
func (c *Camera) DNS() []string { return c.memory().DNS }

// Opens says whether an account with that password would open it now.
func (c *Camera) Opens(name, password string) bool {
	return slices.ContainsFunc(c.memory().Users, func(u user) bool { return u.Name == name && u.Password == password })
}

// Locked says whether it is locked now, after too many wrong sign-ins.
func (c *Camera) Locked() bool { return c.lockedFor() > 0 }

// Served is how often an operation was done, refusals not counted.
func (c *Camera) Served(op string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.served[op]
}

func (c *Camera) change(f func(m *memory)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.mem)
	_ = wire.Save(c.cfg.StateFile, c.mem)
}

func (c *Camera) memory() memory {
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.mem
	m.Beside = slices.Clone(m.Beside)
	for i, rules := range m.Beside {
		m.Beside[i] = slices.Clone(rules)
	}
	m.Servers, m.Rules, m.Users = slices.Clone(m.Servers), slices.Clone(m.Rules), slices.Clone(m.Users)
	return m
}

// follow keeps the clock in step with the first NTP server that answers.
func (c *Camera) follow(ctx context.Context) {
	for {
		wait := time.Minute
		if m := c.memory(); m.NTP {
			wait = 5 * time.Second
			for _, s := range m.Servers {
				server, err := netip.ParseAddr(s)
				if err != nil {
					continue
				}
				off, err := ntp.Ask(ctx, m.Address, server, c.Now)
				if err == nil {
					c.change(func(m *memory) { m.stand(c.skew(*m) + off) })
					wait = time.Minute
					break
				}
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-c.ask:
		case <-time.After(wait):
		}
	}
}

func (c *Camera) walk(w http.ResponseWriter, _ *http.Request) {
	at := c.line.walk(time.Now())
	_ = json.NewEncoder(w).Encode(map[string]any{"walks_at": at.UTC()})
}

func (c *Camera) setSkew(w http.ResponseWriter, r *http.Request) {
	d, err := time.ParseDuration(r.FormValue("skew"))
	if err != nil {
		http.Error(w, "skew is a duration, as 3600s", http.StatusBadRequest)
		return
	}
	c.Step(d)
	w.WriteHeader(http.StatusNoContent)
}

func (c *Camera) snapshot(w http.ResponseWriter, r *http.Request) {
	if _, ok := c.webUser(w, r); !ok {
		return
	}
	p, ok := c.profile(r.FormValue("profile"))
	if !ok || c.cfg.Fed {
		http.Error(w, "there is no such profile", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	_, _ = w.Write(c.picture(p, time.Now()))
}

// Look is what its first source looks at from now on: somebody turned it.
func (c *Camera) Look(s footage.Scene) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Scene = &s
}

// ByNight is the light that it looks at from now on.
func (c *Camera) ByNight(night bool) { c.change(func(m *memory) { m.Night = night }) }

func (c *Camera) setLight(w http.ResponseWriter, r *http.Request) {
	c.ByNight(r.FormValue("night") == "1")
	w.WriteHeader(http.StatusNoContent)
}

func (c *Camera) url(path string) string {
	if c.cfg.Manners.TLS {
		return fmt.Sprintf("https://%s:%d%s", c.At(), tlsPort, path)
	}
	return fmt.Sprintf("http://%s:%d%s", c.At(), HTTPPort, path)
}

// timeline says which frame of which clip is shown when; every stream, still and
// detector of a camera follows it.
type timeline struct {
	mu    sync.Mutex
	start time.Time
	begin int64 // frame at which the last walk began; −1: none yet
	ahead int64 // and at which the next one does; 0: none was asked for
}

const clipFrames = int64(footage.FPS * footage.Length / time.Second)

func newTimeline() *timeline { return &timeline{start: time.Now(), begin: -clipFrames} }

// frame is the number of frames shown since the start.
func (t *timeline) frame(now time.Time) int64 {
	return int64(now.Sub(t.start) * footage.FPS / time.Second)
}

// when is the moment frame n is due.
func (t *timeline) when(n int64) time.Time {
	return t.start.Add(time.Duration(n) * time.Second / footage.FPS)
}

// clip gives clip and index of frame n.
func (t *timeline) clip(n int64) (walk bool, index int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ahead > 0 && n >= t.ahead {
		t.begin, t.ahead = t.ahead, 0
	}
	if n >= t.begin && n < t.begin+clipFrames && t.begin >= 0 {
		return true, n - t.begin
	}
	return false, ((n-t.begin)%clipFrames + clipFrames) % clipFrames
}

func (t *timeline) at(now time.Time) (bool, int64) { return t.clip(t.frame(now)) }

// walk starts a walk at the next key frame; where one runs, when that is over.
func (t *timeline) walk(now time.Time) time.Time {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.frame(now)
	if t.begin >= 0 && n < t.begin+clipFrames {
		t.ahead = t.begin + clipFrames
		return t.when(t.ahead)
	}
	t.begin = (n/footage.FPS + 1) * footage.FPS
	return t.when(t.begin)
}

// nameScope begins the scope that names a device (ONVIF Core, 7.3.2.2).
const nameScope = "onvif://www.onvif.org/name/"

// scopes are its scopes as it says them now.
func (c *Camera) scopes() string {
	all := scopes(c.cfg)
	name := c.memory().Name
	if name == "" {
		return all
	}
	made, rest, _ := strings.Cut(all, nameScope)
	_, rest, _ = strings.Cut(rest, " ")
	return made + nameScope + name + " " + rest
}

func scopes(c Config) string {
	profile := "Profile/T"
	if c.Manners.Media1 {
		profile = "Profile/S"
	}
	esc := strings.NewReplacer(" ", "%20", "&", "%26")
	return strings.Join([]string{
		"onvif://www.onvif.org/type/video_encoder", "onvif://www.onvif.org/" + profile,
		"onvif://www.onvif.org/manufacturer/" + esc.Replace(c.Make),
		"onvif://www.onvif.org/hardware/" + esc.Replace(c.Model),
		"onvif://www.onvif.org/name/" + esc.Replace(c.Make+" "+c.Model),
		"onvif://www.onvif.org/MAC/" + c.MAC}, " ")
}

// Repassword gives an account another password, as someone at its own page would.
func (c *Camera) Repassword(name, password string) {
	c.change(func(m *memory) {
		for i := range m.Users {
			if m.Users[i].Name == name {
				m.Users[i].Password = password
			}
		}
	})
}
