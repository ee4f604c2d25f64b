package footage

import (
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

// actor is who moves through a scene on a walk: in a straight line from one spot to another.
type actor struct {
	id, class      string
	x0, y0, x1, y1 float64
	w, h           float64
	coat           uint32
	draw           func(p *painter, s Shape, t time.Duration)
	begins, ends   time.Duration // 0, 0: for all of the walk
	score          float64       // 0: as analytics score who is plainly seen
	has            []scene.Carried
}

const (
	walkBegins = 500 * time.Millisecond
	walkEnds   = 11 * time.Second
)

// view makes a scene of a ground, what stands or floats in it, and who comes on a walk.
func view(name string, ground func(p *painter, t time.Duration), there func(t time.Duration) []Shape, comes ...actor) Scene {
	return Scene{Name: name, ground: ground, shapes: func(walk bool, t time.Duration) []Shape {
		var out []Shape
		if there != nil {
			out = there(t)
		}
		for _, a := range comes {
			begins, ends := a.begins, a.ends
			if ends == 0 {
				begins, ends = walkBegins, walkEnds
			}
			if walk && t > begins && t < ends {
				out = append(out, Shape{ID: a.id, Class: a.class, X: between(t, begins, ends, a.x0, a.x1), Y: between(t, begins, ends, a.y0, a.y1),
					W: a.w, H: a.h, Coat: a.coat, Score: a.score, Has: a.has, draw: a.draw})
			}
		}
		return out
	}}
}

// ruled is a scene with rules that its camera has.
func ruled(s Scene, rules ...rule.Rule) Scene {
	s.Rules = rules
	return s
}

func someone(coat uint32, x0, y0, x1, y1, h float64) actor {
	return actor{id: "person", class: "Human", x0: x0, y0: y0, x1: x1, y1: y1, w: h * 0.37, h: h, coat: coat, draw: person(coat)}
}

func something(body uint32, x0, y0, x1, y1, w float64) actor {
	return actor{id: "van", class: "Vehicle", x0: x0, y0: y0, x1: x1, y1: y1, w: w, h: w * 0.58, coat: body, draw: van(body)}
}

func afloat(x, y, w float64) func(t time.Duration) []Shape {
	return func(t time.Duration) []Shape {
		return []Shape{{ID: "boat", Class: "Boat", X: x, Y: y + 3*wave(t, 3, 0), W: w, H: w * 0.42, draw: boat}}
	}
}

// room is a hall seen from a corner of its ceiling.
func (p *painter) room(wall, side, floor uint32) {
	p.rect(wall, 0, 0, Width, Height)
	p.poly(side, 0, 0, 300, 90, 300, 430, 0, 640)
	p.poly(floor, 0, 640, 300, 430, 1000, 430, Width, 600, Width, Height, 0, Height)
}

// sign is a board with lines on it, and a lamp that blinks beside: no still is like another.
func (p *painter) sign(t time.Duration, x, y float64) {
	p.rect(0x1c2333, x, y, 130, 52)
	p.rect(0xeceef2, x+10, y+12, 80, 8)
	p.rect(0xeceef2, x+10, y+30, 56, 8)
	lamp := uint32(0x17685f)
	if wave(t, 6, 0) > 0 {
		lamp = 0xa5d0b4
	}
	p.disc(lamp, x+110, y+26, 9)
}

// crates stand in a row, each a little smaller.
func (p *painter) crates(x, y, size float64, n int, c uint32) {
	for i := range n {
		s := size * (1 - 0.06*float64(i))
		p.rect(c, x, y-s, s, s)
		p.poly(0x4a3f30, x, y-s, x+5, y-s, x+s, y-5, x+s, y, x+s-5, y, x, y-s+5)
		x += s + 12
	}
}

func (p *painter) ladder(x, y, w, h float64, steps int) {
	p.rect(0x4a566e, x, y, 8, h)
	p.rect(0x4a566e, x+w, y, 8, h)
	for i := range steps {
		p.rect(0x4a566e, x, y+h*(float64(i)+0.5)/float64(steps), w, 7)
	}
}

// Places are the scenes of the harbour besides Slipway and Berth1, one a place.
var (
	// Berth2: the second ramp, up against a pier.
	Berth2 = view("berth2", func(p *painter, t time.Duration) {
		p.rect(0xcdd8df, 0, 0, Width, 300)
		water(p, t, 280, 0x7f9cab, 0x97b1be)
		p.poly(0x6f6a5c, 0, 360, 560, 330, 560, 380, 0, 430)
		for i := range 6 {
			p.rect(0x57523f, 40+100*float64(i), 370, 22, 130)
		}
		p.poly(0x837d6b, 420, 720, 760, 390, Width, 410, Width, 720)
		p.poly(0x9a947f, 700, 720, 860, 400, 980, 405, 1120, 720)
		p.rect(0xa62540, 1120, 250, 16, 190)
		p.poly(0xa62540, 930, 250, 1136, 250, 1136, 266, 930, 266)
		p.sign(t, 1010, 300)
	}, afloat(300, 330, 250), gull(100, 140, 1200, 230, 70).from(walkBegins, 4*time.Second), shadow(560, 588, 1080, 668, 250).from(2*time.Second, 6*time.Second), lorry(0x4a566e, 620, 560, 1140, 640, 300).from(2*time.Second, 6*time.Second),
		someone(0x2863a3, 760, 690, 793, 626, 150).with(scene.Bag).from(walkBegins, 3*time.Second+1), someone(0x2863a3, 793, 626, 900, 420, 150).from(3*time.Second, walkEnds),
		luggage(0x8a4f07, 812, 640, 44).from(3*time.Second, 9500*time.Millisecond), someone(0xa62540, 1120, 700, 860, 470, 150).called("second").with(scene.Hat).from(5*time.Second, walkEnds))

	// Gangway: a railed bridge up to a deck.
	Gangway = view("gangway", func(p *painter, t time.Duration) {
		p.rect(0xd9dde3, 0, 0, Width, 260)
		water(p, t, 250, 0x8aa5b3, 0xa2bac6)
		p.poly(0xf0ece2, 760, 60, Width, 40, Width, 520, 760, 470)
		for i := range 4 {
			p.disc(0x4a566e, 850+120*float64(i), 190, 34)
			p.disc(0xb9d3dd, 850+120*float64(i), 190, 25)
		}
		p.rect(0x39415a, 790, 300, 90, 170)
		p.poly(0x8d8671, 60, 720, 780, 440, 860, 470, 330, 720)
		for i := range 9 {
			f := float64(i)
			p.rect(0x6d3b66, 90+80*f, 590-31*f, 7, 90)
		}
		p.poly(0x6d3b66, 90, 590, 790, 320, 790, 330, 90, 602)
		p.sign(t, 60, 300)
	}, nil, someone(0x8a4f07, 230, 700, 770, 470, 160))

	// IcePlant: silos, pipes and steam.
	IcePlant = view("iceplant", func(p *painter, t time.Duration) {
		p.rect(0xd3dbe2, 0, 0, Width, 480)
		p.rect(0x9aa0a4, 0, 470, Width, 250)
		p.poly(0xb3b8ba, 0, 560, Width, 500, Width, 720, 0, 720)
		for i := range 3 {
			x := 160 + 260*float64(i)
			p.rect(0xe9edf0, x, 140, 180, 350)
			p.poly(0xc6ced4, x, 140, x+90, 80, x+180, 140)
			p.rect(0x5d6780, x+80, 490, 20, 60)
			p.rect(0xc6ced4, x+150, 160, 10, 310)
			p.disc(0xf6f8fa, x+90+14*wave(t, 2, float64(i)), 52+10*wave(t, 1, float64(i)), 26)
		}
		p.poly(0x5d6780, 900, 260, 1180, 200, 1180, 224, 900, 284)
		p.rect(0x46506a, 1130, 200, 60, 330)
		p.ladder(350, 160, 40, 320, 9)
		p.sign(t, 960, 380)
	}, nil, something(0xe8e3d8, 1100, 690, 200, 640, 250))

	// NetLoft: nets hung up to dry under a roof.
	NetLoft = view("netloft", func(p *painter, t time.Duration) {
		p.room(0xc9bda8, 0xb5a78f, 0x8d7f68)
		for i := range 5 {
			p.poly(0x7d6f58, 260*float64(i)-60, 0, 260*float64(i), 0, 260*float64(i)+220, 150, 260*float64(i)+160, 150)
		}
		for i := range 3 {
			x := 380 + 270*float64(i)
			sway := 8 * wave(t, 2, float64(i))
			p.poly(0x3f6f66, x, 160, x+190, 160, x+160+sway, 470, x+30+sway, 470)
			for j := range 6 {
				f := float64(j)
				p.poly(0xc9bda8, x+20+28*f, 170, x+23+28*f, 170, x+43+20*f+sway, 460, x+40+20*f+sway, 460)
			}
		}
		p.crates(70, 690, 110, 3, 0x9c7b4a)
		p.sign(t, 1080, 250)
	}, nil, someone(0xa62540, 1160, 690, 420, 640, 210))

	// FuelJetty: pumps on a jetty over the water.
	FuelJetty = view("fueljetty", func(p *painter, t time.Duration) {
		p.rect(0xd6d2d8, 0, 0, Width, 250)
		water(p, t, 240, 0x85a0b0, 0x9cb6c4)
		p.poly(0x857f72, 0, 520, Width, 440, Width, 720, 0, 720)
		p.poly(0x99927f, 0, 600, Width, 520, Width, 560, 0, 650)
		for i := range 2 {
			x := 360 + 300*float64(i)
			p.rect(0xc9962f, x, 330-20*float64(i), 120, 190)
			p.rect(0x1c2333, x+20, 350-20*float64(i), 80, 50)
			p.rect(0xeceef2, x+30, 362-20*float64(i), 50+8*wave(t, 6, 1), 10)
			p.poly(0x1c2333, x+120, 380, x+150, 400, x+150, 470, x+140, 470, x+140, 410, x+120, 392)
		}
		p.rect(0xa62540, 960, 300, 90, 150)
		p.poly(0xeceef2, 980, 360, 1030, 360, 1030, 376, 980, 376)
	}, afloat(1080, 290, 260), someone(0x17685f, 120, 700, 1100, 620, 170))

	// LifeboatHouse: the house's doors and the rails before them.
	LifeboatHouse = view("lifeboat", func(p *painter, t time.Duration) {
		p.rect(0xcbd6de, 0, 0, Width, 360)
		water(p, t, 340, 0x88a3b1, 0x9fb8c5)
		p.poly(0x8b8474, 0, 470, Width, 400, Width, 720, 0, 720)
		p.rect(0xe9e2d2, 330, 180, 560, 300)
		p.poly(0x6d3b66, 290, 180, 610, 60, 930, 180)
		for i := range 3 {
			p.rect(0x2863a3, 360+180*float64(i), 250, 150, 220)
			p.rect(0xb9d3dd, 385+180*float64(i), 275, 100, 60)
		}
		for i := range 2 {
			x := 500 + 160*float64(i)
			p.poly(0x4a566e, x, 480, x+14, 480, x-60+60*float64(i), 720, x-90+60*float64(i), 720)
		}
		p.rect(0xf0ece2, 1060, 150, 12, 290)
		p.poly(0xa62540, 1072, 160, 1170+10*wave(t, 5, 0), 180, 1072, 205)
	}, nil, someone(0xc9962f, 980, 690, 380, 560, 160))

	// TicketHall: counters, a queue's ropes and a clock.
	TicketHall = view("tickethall", func(p *painter, t time.Duration) {
		p.room(0xe2ddd2, 0xd2ccbf, 0xb8b1a2)
		for i := range 3 {
			x := 380 + 210*float64(i)
			p.rect(0x4a566e, x, 220, 180, 100)
			p.rect(0xb9d3dd, x+12, 232, 156, 76)
			p.rect(0x6d3b66, x, 320, 180, 110)
		}
		for i := range 5 {
			x := 300 + 150*float64(i)
			p.rect(0x5b5446, x, 500, 10, 90)
			p.poly(0xa62540, x+10, 510, x+150, 510, x+150, 516, x+80, 536, x+10, 516)
		}
		p.disc(0xfaf8f4, 1120, 170, 54)
		p.poly(0x1c2333, 1117, 170, 1123, 170, 1120+40*wave(t, 1, 0), 170-40*wave(t, 1, 1.57))
		p.sign(t, 90, 250)
	}, nil, someone(0x2863a3, 1080, 700, 450, 620, 220))

	// ShedGate: customs shed, first input: the gate.
	ShedGate = view("shedgate", func(p *painter, t time.Duration) {
		p.rect(0xcfd4d9, 0, 0, Width, 400)
		p.rect(0x8f897c, 0, 400, Width, 320)
		p.rect(0x6b7385, 180, 90, 900, 320)
		for i := range 9 {
			p.rect(0x5d6478, 200+98*float64(i), 110, 8, 300)
		}
		p.rect(0x2a3146, 430, 170, 400, 240)
		p.poly(0xa62540, 300, 430, 780, 400, 780, 414, 300, 446)
		p.rect(0xeceef2, 280, 390, 30, 120)
		p.sign(t, 900, 200)
	}, nil, something(0x5f7f9a, 200, 690, 900, 560, 280))

	// ShedBench: its second input: the bench where goods are opened.
	ShedBench = view("shedbench", func(p *painter, t time.Duration) {
		p.room(0xd8d4c8, 0xc6c1b2, 0xa29b8a)
		p.poly(0x9c7b4a, 360, 470, 1060, 440, 1140, 560, 330, 600)
		p.crates(450, 470, 90, 5, 0xb08d57)
		p.rect(0x4a566e, 360, 130, 260, 120)
		p.rect(0xb9d3dd, 376, 146, 228, 88)
		p.sign(t, 820, 170)
	}, nil, someone(0x6d3b66, 240, 700, 1100, 690, 260))

	// NoSignal: an input that nothing hangs on, as an encoder shows it.
	NoSignal = view("nosignal", func(p *painter, t time.Duration) {
		p.rect(0x26304a, 0, 0, Width, Height)
		p.rect(0x3b4763, 480, 330, 320, 60)
		p.rect(0x8ea0c4, 500+120*(1+wave(t, 1, 0)), 350, 40, 20)
	}, nil, actor{id: "none", class: "Boat", x0: -400, y0: 0, x1: -400, y1: 0, w: 1, h: 1, coat: 0x46506a, draw: boat})

	// BondedStore: racks of casks behind a grille.
	BondedStore = ruled(view("bonded", func(p *painter, t time.Duration) {
		p.room(0xb9b4a8, 0xa6a092, 0x7d776a)
		for row := range 3 {
			for i := range 6 {
				x, y := 380+110*float64(i), 210+90*float64(row)
				p.disc(0x8a5a2b, x, y, 38)
				p.disc(0x6d4520, x, y, 26)
				p.rect(0x4a566e, x-52, y+40, 104, 8)
			}
		}
		for i := range 4 {
			p.rect(0x39415a, 60+60*float64(i), 120, 8, 460)
		}
		p.sign(t, 1090, 230)
	}, nil, someone(0xa62540, 1120, 700, 380, 650, 220)),
		rule.Rule{Name: "Aisle line", Kind: rule.Crosses, Direction: rule.Either, Line: scene.Line{px(760, 560), px(740, 718)}},
		rule.Rule{Name: "Rack front", Kind: rule.Inside, Area: scene.Polygon{px(460, 718), px(460, 430), px(700, 430), px(700, 718)}})

	// FreightScale: the weighbridge and its hut.
	FreightScale = view("scale", func(p *painter, t time.Duration) {
		p.rect(0xd0d8de, 0, 0, Width, 330)
		p.poly(0xaab6ae, 0, 330, 0, 290, 500, 270, Width, 310, Width, 330)
		p.rect(0x7f7b72, 0, 330, Width, 390)
		p.poly(0x5b5851, 220, 560, 960, 480, 1120, 620, 260, 720)
		p.poly(0xc9962f, 220, 560, 960, 480, 964, 492, 224, 574)
		p.rect(0xe6e0d2, 960, 230, 220, 220)
		p.rect(0xb9d3dd, 985, 270, 110, 80)
		p.poly(0x4a536a, 940, 230, 1070, 170, 1200, 230)
		p.sign(t, 700, 250)
	}, nil, something(0xa9764c, 120, 560, 900, 600, 330))

	// CrewMess: tables, benches, a window on the water.
	CrewMess = view("mess", func(p *painter, t time.Duration) {
		p.room(0xe6dfd0, 0xd8cfbc, 0xa58f6c)
		p.rect(0x4a566e, 420, 110, 420, 170)
		p.rect(0x8ea8b8, 432, 122, 396, 146)
		p.rect(0xa5bcc9, 460+40*wave(t, 2, 0), 220, 140, 6)
		for i := range 3 {
			x := 330 + 270*float64(i)
			p.poly(0x7d5b34, x, 500, x+200, 490, x+230, 540, x+10, 555)
			p.rect(0x57402a, x+30, 550, 12, 70)
			p.rect(0x57402a, x+190, 540, 12, 70)
			p.disc(0xfaf8f4, x+90, 520, 14)
		}
		p.sign(t, 1040, 200)
	}, nil, someone(0x17685f, 200, 710, 1120, 660, 230))

	// DeckStair: a stair down from the weather deck.
	DeckStair = view("stair", func(p *painter, t time.Duration) {
		p.rect(0xc4ced6, 0, 0, Width, 300)
		water(p, t, 250, 0x7e98a8, 0x95afbd)
		p.poly(0xd9d3c4, 0, 300, Width, 260, Width, 420, 0, 480)
		for i := range 8 {
			f := float64(i)
			p.poly(0xa59d8a-0x060606*uint32(i), 420-30*f, 400+38*f, 860+30*f, 400+38*f, 880+30*f, 436+38*f, 400-30*f, 436+38*f)
		}
		p.poly(0x2863a3, 400, 300, 412, 300, 170, 720, 150, 720)
		p.poly(0x2863a3, 870, 300, 882, 300, 1130, 720, 1110, 720)
		p.sign(t, 980, 330)
	}, nil, someone(0xc9962f, 640, 430, 640, 700, 190))

	// SignalMast: the mast on the mole's head.
	SignalMast = view("mast", func(p *painter, t time.Duration) {
		p.rect(0xc8d5de, 0, 0, Width, 420)
		water(p, t, 400, 0x86a1b1, 0x9db7c4)
		p.poly(0x7a7468, 0, 640, 520, 520, Width, 600, Width, 720, 0, 720)
		p.poly(0x8f897b, 200, 700, 560, 540, 900, 590, 700, 720)
		p.rect(0xeceef2, 600, 70, 18, 490)
		p.poly(0x4a566e, 480, 170, 740, 170, 740, 180, 480, 180)
		for i, c := range []uint32{0xa62540, 0xc9962f, 0x2863a3} {
			p.poly(c, 490+90*float64(i), 180, 550+90*float64(i)+8*wave(t, 4, float64(i)), 200, 490+90*float64(i), 222)
		}
	}, afloat(1000, 450, 210), someone(0x6d3b66, 240, 700, 820, 620, 150))

	// QuayStore: what hangs on the recorder's own port looks at the quay's store.
	QuayStore = view("quaystore", func(p *painter, t time.Duration) {
		p.room(0xcfc9bb, 0xbdb6a6, 0x8f8879)
		p.crates(340, 440, 120, 5, 0x9c7b4a)
		p.crates(60, 700, 150, 2, 0xb08d57)
		p.rect(0x2a3146, 1050, 180, 140, 330)
		p.sign(t, 420, 150)
	}, nil, someone(0x2863a3, 1110, 560, 320, 680, 220))
)

// All are the scenes that there are.
func All() []Scene {
	return []Scene{Slipway, Berth1, Berth2, Gangway, IcePlant, NetLoft, FuelJetty, LifeboatHouse, TicketHall, ShedGate,
		ShedBench, NoSignal, BondedStore, BondedStore.AsHeat(), FreightScale, CrewMess, DeckStair, SignalMast, QuayStore,
		TicketHall.Zoomed(380, 180)}
}
