package camera

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// hub is the camera's event service: pull points (ONVIF Core, 9.1.2) and the state
// of its properties.
type hub struct {
	cam *Camera
	mu  sync.Mutex
	// points by the last step of their address
	points map[string]*point
	// streams of metadata that carry events as well
	streams map[*point]bool
	// states of properties: key of rule → message; of none, of motion
	states map[string]message
	// fired is how often each rule began, since the camera was started
	fired map[string]int
	// changed wakes the analytics when rules were written
	changed chan struct{}
}

type point struct {
	until time.Time // the host's time: a stepped clock ends no subscription
	queue []message
	wake  chan struct{}
}

type message struct {
	topic, rule, item, value, op string
	source                       int       // the video source that it is of, from 0
	at                           time.Time // the camera's own clock
}

const (
	maxPoints  = 4
	maxQueue   = 200
	maxMinutes = 10 * time.Minute
)

func newHub(c *Camera) *hub {
	h := &hub{cam: c, points: map[string]*point{}, streams: map[*point]bool{}, states: map[string]message{}, fired: map[string]int{}, changed: make(chan struct{}, 1)}
	h.follow(c.mem)
	h.states[""] = message{topic: "tns1:VideoSource/MotionAlarm", item: "State", value: "false"}
	return h
}

// sources is how many views have rules.
func (m memory) sources() int { return 1 + len(m.Beside) }

// rules of a source.
func (m memory) rules(source int) []rule.Rule {
	switch {
	case source == 0:
		return m.Rules
	case source <= len(m.Beside):
		return m.Beside[source-1]
	}
	return nil
}

// setRules of a source.
func (m *memory) setRules(source int, rules []rule.Rule) {
	if source == 0 {
		m.Rules = rules
	} else if source <= len(m.Beside) {
		m.Beside[source-1] = rules
	}
}

// key names a rule among those of all sources: by its name alone it is of the first.
func key(source int, name string) string {
	if source == 0 {
		return name
	}
	return fmt.Sprintf("%d\x00%s", source, name)
}

// forget ends all subscriptions, as a restart does.
func (h *hub) forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.points = map[string]*point{}
}

// follow keeps one property for each rule that lasts, and ends those that are gone.
func (h *hub) follow(of memory) {
	last := map[string]message{}
	for source := range of.sources() {
		for _, r := range of.rules(source) {
			switch r.Kind {
			case rule.Moves:
				last[key(source, r.Name)] = message{topic: "tns1:RuleEngine/CellMotionDetector/Motion", rule: r.Name, item: "IsMotion", value: "false", source: source}
			case rule.Inside:
				last[key(source, r.Name)] = message{topic: "tns1:RuleEngine/FieldDetector/ObjectsInside", rule: r.Name, item: "IsInside", value: "false", source: source}
			}
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for name, m := range h.states {
		if _, lasts := last[name]; name != "" && !lasts {
			m.op, m.at = "Deleted", h.cam.Now()
			h.send(m)
			delete(h.states, name)
		}
	}
	for name, m := range last {
		if _, there := h.states[name]; !there {
			h.states[name] = m
		}
	}
	select {
	case h.changed <- struct{}{}:
	default:
	}
}

// engine runs a rule of a source.
type engine struct {
	source int
	rule.Engine
}

// engines run the camera's rules, by its habit.
func (c *Camera) engines() (out []engine) {
	m := c.memory()
	for source := range m.sources() {
		for _, r := range m.rules(source) {
			if c.habits().Middle {
				r.By = rule.ByMiddle
			}
			out = append(out, engine{source, rule.Engine{Rule: r}})
		}
	}
	return out
}

// watch runs the camera's analytics over what moves in its scene.
func (c *Camera) watch(ctx context.Context) {
	engines, stirred := c.engines(), map[string]*stir{}
	last, present := c.line.frame(time.Now()), map[string]bool{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(c.line.when(last + 1))):
		}
		for now := c.line.frame(time.Now()); last < now; {
			last++
			select {
			case <-c.events.changed:
				engines = c.engines()
			default:
			}
			walk, index := c.line.clip(last)
			at := time.Duration(index) * time.Second / footage.FPS
			here, when := map[string]bool{}, time.Duration(last)*time.Second/footage.FPS // from walk to walk time goes on
			moving := c.cfg.Scene.Moving(walk, at)
			for i := range moving {
				moving[i].Box = c.habits().looks(moving[i].Box)
			}
			c.stirs(stirred, last, moving)
			for _, o := range moving {
				here[o.Object], o.At = true, when
				for i := range engines {
					c.events.fire(engines[i].source, engines[i].Rule, engines[i].Feed(o), c.Now())
				}
			}
			for who := range present {
				if here[who] {
					continue
				}
				for i := range engines {
					c.events.fire(engines[i].source, engines[i].Rule, engines[i].Forget(who, when), c.Now())
				}
			}
			if (len(here) > 0) != (len(present) > 0) {
				c.events.set("", strconv.FormatBool(len(here) > 0), c.Now())
			}
			present = here
		}
	}
}

// fire tells what a rule fired, at a moment by the camera's clock.
func (h *hub) fire(source int, r rule.Rule, hits []rule.Hit, at time.Time) {
	for _, hit := range hits {
		if hit.On {
			h.mu.Lock()
			h.fired[key(source, r.Name)]++
			h.mu.Unlock()
		}
		if r.Kind == rule.Inside {
			h.set(key(source, r.Name), strconv.FormatBool(hit.On), at)
			continue
		}
		topic := "tns1:RuleEngine/LineDetector/Crossed"
		if own, ok := ownTypes[r.Kind]; ok {
			topic = "tns1:RuleEngine/" + own.name + "/Detected"
		} else if r.Kind == rule.Stays {
			topic = "tns1:RuleEngine/LoiteringDetector/ObjectIsLoitering"
		}
		h.mu.Lock()
		h.send(message{topic: topic, rule: r.Name, item: "ObjectId", value: "1", source: source, at: at})
		h.mu.Unlock()
	}
}

// Fired is how often a rule of the camera's first view began, since it was started.
func (c *Camera) Fired(name string) int {
	c.events.mu.Lock()
	defer c.events.mu.Unlock()
	return c.events.fired[name]
}

// Rules are the rules that the camera has for its first view.
func (c *Camera) Rules() []rule.Rule { return c.RulesOf(0) }

// RulesOf are the rules that it has for a view, by its source from 0.
func (c *Camera) RulesOf(source int) []rule.Rule { return c.memory().rules(source) }

func (h *hub) set(name, value string, at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	m, there := h.states[name]
	if !there {
		return // its rule was deleted meanwhile
	}
	m.value, m.op, m.at = value, "Changed", at
	h.states[name] = m
	h.send(m)
}

// overhear has a stream of metadata carry what is sent from now on: told gives what came since it was asked last.
func (h *hub) overhear() (told func() []message, leave func()) {
	p := &point{}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.streams[p] = true
	return func() []message {
			h.mu.Lock()
			defer h.mu.Unlock()
			all := p.queue
			p.queue = nil
			return all
		}, func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			delete(h.streams, p)
		}
}

// queue puts m on a pull point; motion, which is of no rule, once for each source that the analytics look through.
func (h *hub) queue(p *point, m message) {
	if m.rule != "" {
		if len(p.queue) < maxQueue {
			p.queue = append(p.queue, m)
		}
		return
	}
	for i := range max(1, len(h.cam.cfg.Manners.Sources)) {
		if m.source = i; h.cam.sees(i) && len(p.queue) < maxQueue {
			p.queue = append(p.queue, m)
		}
	}
}

// send queues m on every live pull point; h.mu is held.
func (h *hub) send(m message) {
	for p := range h.streams {
		h.queue(p, m)
	}
	for id, p := range h.points {
		if time.Now().After(p.until) {
			delete(h.points, id)
			continue
		}
		h.queue(p, m)
		select {
		case p.wake <- struct{}{}:
		default:
		}
	}
}

func (h *hub) operate(r *http.Request, op *wire.Node) (string, *fault) {
	id := r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]
	switch op.XMLName.Local {
	case "GetEventProperties":
		return h.properties(), nil
	case "CreatePullPointSubscription":
		return h.create(op)
	case "PullMessages":
		return h.pull(r.Context(), id, op)
	case "Renew", "Unsubscribe", "SetSynchronizationPoint":
		return h.manage(id, op)
	}
	return "", &fault{500, "Receiver", "ter:ActionNotSupported", "This camera doesn't know " + op.XMLName.Local + "."}
}

func (h *hub) create(op *wire.Node) (string, *fault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for k, p := range h.points {
		if time.Now().After(p.until) {
			delete(h.points, k)
		}
	}
	if len(h.points) >= maxPoints {
		return "", &fault{500, "Receiver", "wsnt:SubscribeCreationFailedFault", "All pull points of this camera are taken."}
	}
	raw := make([]byte, 6)
	_, _ = rand.Read(raw)
	id := hex.EncodeToString(raw)
	d := duration(op.Get("InitialTerminationTime"))
	p := &point{until: time.Now().Add(d), wake: make(chan struct{}, 1)}
	h.points[id] = p
	h.initialise(p)
	return fmt.Sprintf(`<tev:CreatePullPointSubscriptionResponse><tev:SubscriptionReference><wsa:Address>%s</wsa:Address></tev:SubscriptionReference>%s</tev:CreatePullPointSubscriptionResponse>`,
		h.cam.url("/onvif/subscription/"+id), h.times(d)), nil
}

// times are in the camera's own clock.
func (h *hub) times(d time.Duration) string {
	now := h.cam.Now().UTC()
	return fmt.Sprintf(`<wsnt:CurrentTime>%s</wsnt:CurrentTime><wsnt:TerminationTime>%s</wsnt:TerminationTime>`,
		now.Format(time.RFC3339), now.Add(d).Format(time.RFC3339))
}

func (h *hub) initialise(p *point) {
	names := make([]string, 0, len(h.states))
	for n := range h.states {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		m := h.states[n]
		m.op, m.at = "Initialized", h.cam.Now()
		h.queue(p, m)
	}
}

func gone() *fault {
	return sender("wsrf-rw:ResourceUnknownFault", "There is no such subscription, or it is over.")
}

func (h *hub) point(id string) *point {
	p := h.points[id]
	if p == nil || time.Now().After(p.until) {
		delete(h.points, id)
		return nil
	}
	return p
}

func (h *hub) pull(ctx context.Context, id string, op *wire.Node) (string, *fault) {
	wait := min(duration(op.Get("Timeout")), time.Minute)
	most, err := strconv.Atoi(op.Get("MessageLimit"))
	if err != nil || most < 1 {
		return "", sender("ter:InvalidArgVal", "MessageLimit is a positive number.")
	}
	deadline := time.NewTimer(wait)
	defer deadline.Stop()
	for {
		h.mu.Lock()
		p := h.point(id)
		if p == nil {
			h.mu.Unlock()
			return "", gone()
		}
		n := min(most, len(p.queue))
		batch := slices.Clone(p.queue[:n])
		p.queue = slices.Delete(p.queue, 0, n)
		h.mu.Unlock()
		over := false
		if n == 0 {
			select {
			case <-p.wake:
				continue
			case <-ctx.Done():
				return "", gone()
			case <-deadline.C:
				over = true
			}
		}
		if n > 0 || over {
			return h.batch(batch), nil
		}
	}
}

func (h *hub) batch(ms []message) string {
	var b strings.Builder
	now := h.cam.Now().UTC()
	fmt.Fprintf(&b, `<tev:PullMessagesResponse><tev:CurrentTime>%s</tev:CurrentTime><tev:TerminationTime>%s</tev:TerminationTime>`, now.Format(time.RFC3339), now.Add(time.Minute).Format(time.RFC3339))
	for _, m := range ms {
		b.WriteString(m.xml())
	}
	b.WriteString("</tev:PullMessagesResponse>")
	return b.String()
}

// xml is the message as pull points and streams carry it (ONVIF Core, 9.5).
func (m message) xml() string {
	op := ""
	if m.op != "" {
		op = ` PropertyOperation="` + m.op + `"`
	}
	source := fmt.Sprintf(`<tt:SimpleItem Name="VideoSourceConfigurationToken" Value="vsc%d"/>`, m.source)
	if m.rule != "" {
		source += fmt.Sprintf(`<tt:SimpleItem Name="VideoAnalyticsConfigurationToken" Value="vac%d"/>`, m.source) + `<tt:SimpleItem Name="Rule" Value="` + wire.Esc(m.rule) + `"/>`
	}
	return fmt.Sprintf(`<wsnt:NotificationMessage><wsnt:Topic Dialect="http://www.onvif.org/ver10/tev/topicExpression/ConcreteSet">%s</wsnt:Topic><wsnt:Message><tt:Message UtcTime="%s"%s><tt:Source>%s</tt:Source><tt:Data><tt:SimpleItem Name="%s" Value="%s"/></tt:Data></tt:Message></wsnt:Message></wsnt:NotificationMessage>`,
		m.topic, m.at.UTC().Format("2006-01-02T15:04:05.000Z"), op, source, m.item, m.value)
}

func (h *hub) manage(id string, op *wire.Node) (string, *fault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	p := h.point(id)
	if p == nil {
		return "", gone()
	}
	switch op.XMLName.Local {
	case "Renew":
		d := duration(op.Get("TerminationTime"))
		p.until = time.Now().Add(d)
		return "<wsnt:RenewResponse>" + h.times(d) + "</wsnt:RenewResponse>", nil
	case "Unsubscribe":
		delete(h.points, id)
		return "<wsnt:UnsubscribeResponse/>", nil
	}
	h.initialise(p)
	select {
	case p.wake <- struct{}{}:
	default:
	}
	return "<tev:SetSynchronizationPointResponse/>", nil
}

// duration reads the xs:duration forms that clients send (PT60S, PT1M, PT5S);
// anything else is a minute, more than ten minutes is ten.
func duration(s string) time.Duration {
	s, ok := strings.CutPrefix(s, "PT")
	if !ok || s == "" {
		return time.Minute
	}
	d, err := time.ParseDuration(strings.ToLower(s))
	if err != nil || d <= 0 {
		return time.Minute
	}
	return min(d, maxMinutes)
}

// properties are its topics. Loitering is among them while a rule is there that tells of it.
func (h *hub) properties() string {
	m := h.cam.memory()
	for source := range m.sources() {
		if slices.ContainsFunc(m.rules(source), func(r rule.Rule) bool { return r.Kind == rule.Stays }) {
			return eventProperties
		}
	}
	return strings.Replace(eventProperties, loitering, "", 1)
}

const loitering = `<LoiteringDetector><ObjectIsLoitering wstop:topic="true"><tt:MessageDescription IsProperty="false"><tt:Source><tt:SimpleItemDescription Name="VideoSourceConfigurationToken" Type="tt:ReferenceToken"/><tt:SimpleItemDescription Name="VideoAnalyticsConfigurationToken" Type="tt:ReferenceToken"/><tt:SimpleItemDescription Name="Rule" Type="xs:string"/></tt:Source><tt:Data><tt:SimpleItemDescription Name="ObjectId" Type="xs:integer"/></tt:Data></tt:MessageDescription></ObjectIsLoitering></LoiteringDetector>`

const eventProperties = `<tev:GetEventPropertiesResponse><tev:TopicNamespaceLocation>http://www.onvif.org/onvif/ver10/topics/topicns.xml</tev:TopicNamespaceLocation><wsnt:FixedTopicSet>true</wsnt:FixedTopicSet><wstop:TopicSet>` +
	`<tns1:RuleEngine><LineDetector><Crossed wstop:topic="true"><tt:MessageDescription IsProperty="false"><tt:Source><tt:SimpleItemDescription Name="VideoSourceConfigurationToken" Type="tt:ReferenceToken"/><tt:SimpleItemDescription Name="VideoAnalyticsConfigurationToken" Type="tt:ReferenceToken"/><tt:SimpleItemDescription Name="Rule" Type="xs:string"/></tt:Source><tt:Data><tt:SimpleItemDescription Name="ObjectId" Type="xs:integer"/></tt:Data></tt:MessageDescription></Crossed></LineDetector>` +
	`<FieldDetector><ObjectsInside wstop:topic="1"><tt:MessageDescription IsProperty="true"><tt:Source><tt:SimpleItemDescription Name="VideoSourceConfigurationToken" Type="tt:ReferenceToken"/><tt:SimpleItemDescription Name="VideoAnalyticsConfigurationToken" Type="tt:ReferenceToken"/><tt:SimpleItemDescription Name="Rule" Type="xs:string"/></tt:Source><tt:Data><tt:SimpleItemDescription Name="IsInside" Type="xs:boolean"/></tt:Data></tt:MessageDescription></ObjectsInside></FieldDetector>` + loitering + `</tns1:RuleEngine>` +
	`<tns1:VideoSource><MotionAlarm wstop:topic="true"><tt:MessageDescription IsProperty="true"><tt:Source><tt:SimpleItemDescription Name="VideoSourceConfigurationToken" Type="tt:ReferenceToken"/></tt:Source><tt:Data><tt:SimpleItemDescription Name="State" Type="xs:boolean"/></tt:Data></tt:MessageDescription></MotionAlarm></tns1:VideoSource>` +
	`</wstop:TopicSet><wsnt:TopicExpressionDialect>http://www.onvif.org/ver10/tev/topicExpression/ConcreteSet</wsnt:TopicExpressionDialect><tev:MessageContentFilterDialect>http://www.onvif.org/ver10/tev/messageContentFilter/ItemFilter</tev:MessageContentFilterDialect></tev:GetEventPropertiesResponse>`
