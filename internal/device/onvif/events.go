package onvif

import (
	"context"
	"fmt"
	"strings"
	"time"

	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/device/dial"
)

// Topics reads the device's TopicSet (GetEventProperties, ONVIF Core 9.8.2).
func (c *Client) Topics(ctx context.Context, services map[string]string) ([]topic.Description, error) {
	r, err := c.call(ctx, c.eventService(services), eventNS, "GetEventProperties", `<GetEventProperties xmlns="`+eventNS+`"/>`, CallLimit)
	if err != nil {
		return nil, err
	}
	var out []topic.Description
	set := r.at("TopicSet")
	if set == nil {
		return nil, nil
	}
	var walk func(n *node, root string, path []string)
	walk = func(n *node, root string, path []string) {
		path = append(path[:len(path):len(path)], n.name.Local)
		if m := n.at("MessageDescription"); (n.attr("topic") == "true" || n.attr("topic") == "1") && len(out) < 256 {
			out = append(out, topic.Description{Topic: topic.Canonical(root, path),
				Property: m.attr("IsProperty") == "true" || m.attr("IsProperty") == "1",
				Sources:  items(m.at("Source")), Data: items(m.at("Data"))})
		}
		for _, k := range n.kids {
			if k.name.Local != "MessageDescription" {
				walk(k, root, path)
			}
		}
	}
	for _, k := range set.kids {
		walk(k, k.name.Space, nil)
	}
	return out, nil
}

func (c *Client) eventService(services map[string]string) string { return services[eventNS] }

func items(n *node) []string {
	var out []string
	for _, i := range n.all("SimpleItemDescription") {
		out = append(out, i.attr("Name"))
	}
	return out
}

// Event is one notification message.
type Event struct {
	Topic     string // canonical
	At        time.Time
	Operation topic.Operation // empty: not a property
	Source    map[string]string
	Data      map[string]string
}

// Rule names the analytics rule that spoke, or "".
func (e Event) Rule() string { return e.Source["Rule"] }

// True says whether the event's only or first boolean data item is true, and
// whether there is one.
func (e Event) True() (value, ok bool) {
	for _, name := range []string{"State", "IsInside", "IsMotion", "LogicalState", "IsTamper", "Value"} {
		if v, has := e.Data[name]; has {
			return v == "true" || v == "1", true
		}
	}
	for _, v := range e.Data {
		if v == "true" || v == "false" {
			return v == "true", true
		}
	}
	return false, false
}

// PullPoint is one subscription of ours on a device.
type PullPoint struct {
	c       *Client
	address string
}

// Subscribe opens a pull point (ONVIF Core 9.1.2) for a minute; Pull keeps it.
func (c *Client) Subscribe(ctx context.Context, services map[string]string) (*PullPoint, error) {
	r, err := c.call(ctx, c.eventService(services), eventNS, "CreatePullPointSubscription",
		`<CreatePullPointSubscription xmlns="`+eventNS+`"><InitialTerminationTime>PT60S</InitialTerminationTime></CreatePullPointSubscription>`, CallLimit)
	if err != nil {
		return nil, err
	}
	address := r.str("SubscriptionReference", "Address")
	if address == "" {
		return nil, &dial.Error{Tried: "CreatePullPointSubscription", On: c.host.Addr.String(), Kind: dial.ErrMalformed,
			Says: "it names no subscription"}
	}
	return &PullPoint{c, address}, nil
}

// Pull waits up to wait for messages and returns at most 50.
func (p *PullPoint) Pull(ctx context.Context, wait time.Duration) ([]Event, error) {
	r, err := p.c.call(ctx, p.address, eventNS, "PullMessages",
		fmt.Sprintf(`<PullMessages xmlns="%s"><Timeout>PT%dS</Timeout><MessageLimit>50</MessageLimit></PullMessages>`,
			eventNS, max(1, int(wait.Seconds()))), wait+CallLimit)
	if err != nil {
		return nil, err
	}
	var out []Event
	for _, n := range r.all("NotificationMessage") {
		if e, ok := readEvent(n); ok && len(out) < 200 {
			out = append(out, e)
		}
	}
	return out, nil
}

// Renew asks for another minute.
func (p *PullPoint) Renew(ctx context.Context) error {
	_, err := p.c.call(ctx, p.address, notifyNS, "Renew",
		`<Renew xmlns="`+notifyNS+`"><TerminationTime>PT60S</TerminationTime></Renew>`, CallLimit)
	return err
}

// Close gives the pull point back: devices have few.
func (p *PullPoint) Close(ctx context.Context) error {
	_, err := p.c.call(ctx, p.address, notifyNS, "Unsubscribe", `<Unsubscribe xmlns="`+notifyNS+`"/>`, CallLimit)
	return err
}

func readEvent(n *node) (Event, bool) {
	t := n.at("Topic")
	m := n.at("Message", "Message")
	if t == nil || m == nil {
		return Event{}, false
	}
	path := strings.Split(t.str(), "/")
	prefix, _, ok := strings.Cut(path[0], ":")
	space := ""
	if ok {
		space = t.space(prefix)
	}
	e := Event{Topic: topic.Canonical(space, path), Operation: topic.Operation(m.attr("PropertyOperation")),
		Source: simple(m.at("Source")), Data: simple(m.at("Data"))}
	at, err := time.Parse(time.RFC3339Nano, m.attr("UtcTime"))
	if err == nil {
		e.At = at.UTC()
	}
	return e, true
}

func simple(n *node) map[string]string {
	out := map[string]string{}
	for _, i := range n.all("SimpleItem") {
		if len(out) < 32 {
			out[i.attr("Name")] = i.attr("Value")
		}
	}
	return out
}
