package democase

import (
	"math/rand/v2"
	"slices"
	"strings"
	"time"
)

// A talk is an exchange in a room of several people, in turns. Each turn is somebody of the
// room, counted from whoever begins.
type talkLine struct {
	who  int // of the room, from whoever begins
	said string
}

// turns divides an exchange: a line begins with the number of whoever says it.
func turns(s string) (out []talkLine) {
	for line := range strings.Lines(s) {
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		out = append(out, talkLine{int(line[0] - '0'), line[2:]})
	}
	return out
}

// exchanges are what people of the islands write to each other. {x} stands for a word of
// that kind.
var exchanges = func() (all [][]talkLine) {
	for _, s := range []string{
		"0 who has the {thing}\n1 it was in the {room} on {day}\n2 I took it down to the {spot}\n0 bring it back please, we need it at {hour}\n2 will do",
		"0 {hour} crossing is cancelled\n1 again\n2 swell at the point. next one is at {hour2}\n1 then I sleep here",
		"0 anybody going past the {spot}\n1 in half an hour, why\n0 bread, two, and milk if they have it\n1 they had none yesterday\n0 then just bread",
		"0 what was the reading at the {mark}\n1 {num}.4 at slack water\n0 and the one before\n1 {num}.1 I think. it is in the book\n0 thanks",
		"0 happy birthday {name}!\n1 🎂\n2 from all of us on the early shift\n0 cake is in the {room}, be quick",
		"0 did anybody see my {thing}\n1 no\n2 grey one? it hangs in the {room}\n0 that is the one. thank you",
		"0 meeting moved to {hour}\n1 which room\n0 the small one, the {room} is being painted\n2 can I join from home\n0 yes if the line holds",
		"0 the {thing} is broken again\n1 did you turn it off and on\n0 three times\n2 I have a spare at the {spot}\n0 you save the week",
		"0 fog until noon they say\n1 I see the {mark} from here, so it lifts\n0 lucky you. here I do not see my own boots",
		"0 can someone take my shift on {day}\n1 which\n0 late\n1 if you take my {day2}\n0 deal",
		"0 pictures from the {spot} 📷\n1 nice light\n2 send me the one with the boat in it\n0 which boat, there are six",
		"0 the dog got out again, has anybody seen her\n1 she was at the {spot} ten minutes ago\n0 on my way\n2 she is with me now, eating your sandwich",
		"0 who ordered {num} metres of rope\n1 not me\n2 me. it is for the moorings\n0 it fills the whole {room}\n2 for a week, promise",
		"0 choir tonight?\n1 {hour} as always\n2 I have a cold\n0 come and hum",
		"0 est-ce que quelqu'un a les clés du {spot} ?\n1 oui, je les laisse à la cantine\n0 merci, je passe à {hour}",
		"0 navegação até às {hour}, depois há vento\n1 certo. levo o almoço\n2 eu levo o café\n0 então não esquecemos nada",
		"0 hvem låste {spot} i går?\n1 jeg, halv ti\n0 døra stod åpen i dag morges\n1 da har noen vært der etter meg",
		"0 متى تغادر العبارة؟\n1 في {hour} إن شاء الله\n0 شكرا، أنتظرك عند المرسى",
		"0 今日は霧が深いですね\n1 ええ、{hour}まで船は出ないそうです\n0 では待ちましょう",
		"0 कल कितने बजे मिलना है?\n1 {hour} बजे, घाट पर\n0 ठीक है",
		"0 למי יש את המפתח של המחסן?\n1 אצלי, אני מביאה ב-{hour}\n0 תודה",
		"0 не забудь про прогноз\n1 помню. ветер с запада, к {hour} стихнет\n0 хорошо",
		"0 how was the {spot}\n1 cold. {num} birds, one seal, no people\n0 so a good day\n1 the best",
		"0 the plumber comes at {hour}\n1 someone must be in\n2 I am, with a book\n0 let him in by the side, the front sticks",
		"0 do we still have tea\n1 a mountain of it\n2 no sugar though\n0 {name} gave it up, so we all did",
		"0 film night on {day}?\n1 only if it is not the one about the shark\n2 it is the one about the shark\n1 fine",
		"0 count of the {thing}s please\n1 {num} here\n2 {num2} in the {room}\n0 then two are missing since {day}\n1 one is in my van",
		"0 are you up\n1 since five\n0 coffee at {hour}?\n1 at the {spot}",
		"0 on my way\n1 the {hour} is full\n0 then I row",
		"0 did you get the bread\n1 two, and the {thing}\n0 thanks, I owe you\n1 {num}",
		"0 call me when you can\n1 no signal past the point, give me half an hour\n0 fine by me",
		"0 wind is turning\n1 I see it. everything is tied down\n0 the dinghy too?\n1 going",
		"0 I left the keys on the hook\n1 which hook\n0 by the {spot}\n1 found",
		"0 shift moved to {hour}\n1 again? tell me in the morning\n0 it is morning\n1 not here",
		"0 the van needs fuel\n1 I filled it on {day}\n0 then somebody drove it\n1 ask Leif",
		"0 Brit asked about you\n1 tell her {day}\n0 tell her yourself\n1 ok",
		"0 the {room} smells of paint\n1 it is paint\n0 who paints at {hour}\n1 people without children",
		"0 how deep is it at the {mark}\n1 {num} at low water, less after a storm\n0 enough",
		"0 back late tonight\n1 how late\n0 {hour2}, if the ferry goes\n1 I leave the lamp on",
		"0 can you lend me {num}\n1 until when\n0 {day}\n1 you said that last {day2}\n0 this time it is true",
		"0 kannst du am {day} die Spätschicht nehmen?\n1 nein, da singe ich\n0 schade\n1 frag Ida",
		"0 du glömde din {thing} hos mig\n1 behåll den till {day}\n0 då lånar jag den",
		"0 ¿a qué hora sale el barco?\n1 a las {hour}, si no hay niebla\n0 llevo pan\n1 y yo queso",
		"0 明天几点开会？\n1 {hour}，在码头\n0 好的",
		"0 내일 배 있어?\n1 {hour}에 있대\n0 고마워",
		"0 photo of the {mark} please, from your side\n1 fog. later\n0 no hurry\n1 there, you can count the birds",
		"0 did the parcel come\n1 one, for {name}\n0 grey, about so long?\n1 how should I see how long is so long",
		"0 somebody moved the {thing}\n1 me, it stood in the rain\n0 thank you then",
		"0 radio check\n1 loud and clear\n2 same here, some crackle\n0 thanks, out",
	} {
		all = append(all, turns(s))
	}
	return all
}()

var fills = map[string][]string{
	"thing": {"level", "tripod", "charger", "heater", "oilskin", "kettle", "staff", "key ring", "tape", "lamp"},
	"room":  {"net loft", "office", "kitchen", "long room", "drying room", "cellar"},
	"spot":  {"kiosk", "slipway", "north quay", "boatyard", "ferry desk", "bakery", "weather hut"},
	"mark":  {"second buoy", "inner light", "tide gauge", "old mast", "leading line"},
	"day":   {"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"},
	"day2":  {"Monday", "Wednesday", "Friday", "Sunday"},
	"hour":  {"06:40", "07:15", "08:30", "10:00", "11:45", "13:20", "15:00", "16:30", "18:40", "20:10"},
	"hour2": {"09:05", "12:50", "17:20", "21:30"},
	"num":   {"3", "4", "7", "11", "14", "22", "31", "40"},
	"num2":  {"2", "5", "9", "13", "17"},
	"name":  {"Leif", "Sunniva", "Ida", "Brit", "Tor-Ivar"},
}

// turnsSaid are lines that are said one after the other.
func turnsSaid(s string) []string { return strings.Split(s, "\n") }

// exchange is one that is said by so many people, with its words.
func exchange(r *rand.Rand, most int) (out []talkLine) {
	for {
		all := exchanges[r.IntN(len(exchanges))]
		if slices.ContainsFunc(all, func(l talkLine) bool { return l.who >= most }) {
			continue
		}
		for _, l := range all {
			out = append(out, talkLine{l.who, fill(r, l.said)})
		}
		return out
	}
}

// fill writes the words of a line.
func fill(r *rand.Rand, s string) string {
	for {
		before, rest, found := strings.Cut(s, "{")
		kind, after, closed := strings.Cut(rest, "}")
		if !found || !closed {
			return s
		}
		words := fills[kind]
		s = before + words[r.IntN(len(words))] + after
	}
}

// spoken is a line of a room.
type spoken struct {
	room, who int // who of the room's people; 0 is the owner
	at        time.Time
	said      string
	taken     bool // back
}

// chatter is what is said in rooms of so many people each from start to last, the owner
// among them, and what is said besides, in the order in which it was said.
func chatter(r *rand.Rand, rooms []int, every time.Duration, besides []spoken) (out []spoken) {
	defer func() {
		out = append(out, besides...)
		slices.SortStableFunc(out, func(a, b spoken) int { return a.at.Compare(b.at) })
	}()
	for at := start; ; {
		at = at.Add(time.Duration(r.Int64N(int64(2 * every))))
		if h := at.Hour(); h < 6 {
			at = at.Add(time.Duration(6-h) * time.Hour)
		}
		if !at.Before(last) {
			return out
		}
		room := r.IntN(len(rooms))
		first := r.IntN(rooms[room])
		t := at
		for _, l := range exchanges[r.IntN(len(exchanges))] {
			out = append(out, spoken{room, (first + l.who) % rooms[room], t, fill(r, l.said), false})
			t = t.Add(time.Duration(8+r.IntN(340)) * time.Second)
		}
	}
}

// pages are what is read on the islands: example domains (RFC 2606).
var webPages = []struct{ url, title string }{
	{"https://ferry.example/times", "Ferry times, all routes"}, {"https://weather.example.net/skerries", "Weather for the skerries, next 48 hours"},
	{"https://tide.example.org/tables?station=varn", "Tide tables: Varn"}, {"https://news.example.com/islands", "The Island Paper"},
	{"https://recipes.example.com/fish-soup", "Fish soup for a wet day"}, {"https://shop.example.net/oilskins", "Oilskins and boots"},
	{"https://forum.example.org/rowing/blisters", "Blisters: what helps? – Rowing forum"}, {"https://library.example.org/loans", "Your loans"},
	{"https://maps.example.com/varn", "Varn Skerries – map"}, {"https://video.example.com/w/seals", "Seals at the inner light (video)"},
	{"https://bank.example.org/sign-in", "Sign in – Island Savings"}, {"https://jobs.example.net/mainland", "Vacancies on the mainland"},
	{"https://dict.example.org/theodolite", "theodolite – dictionary"}, {"https://radio.example.com/live", "Harbour Radio, live"},
	{"https://wiki.example.org/Lighthouse", "Lighthouse – encyclopaedia"}, {"https://mail.example.com/inbox", "Inbox (3)"},
}

// asides are what was looked for before the evening.
var webSought = []string{"tide {mark} {day}", "how to splice {num} mm rope", "ferry {hour} full", "red lead where to buy", "{thing} broken what now", "knots book library", "is {num} knots a lot", "varnish drying time cold", "used outboard", "rowing race {day}", "cake for {num} people", "name of the song about the {mark}", "mainland flights {day}", "second job evenings", "loan without questions", "ferry cancelled today", "how deep is the sound at varn", "oilskin repair", "birthday cake without sugar", "rowing machine second hand", "who was the keeper of the inner light",
	"seal pup alone what to do", "van fuel price", "blisters hands rowing", "aurora tonight"}

// telling is what the owners did not want to be found.
var (
	webDeleted    = []struct{ url, title string }{{"https://market.example.net/instruments/wanted", "Wanted: theodolites, any condition"}, {"https://forum.example.org/survey/serial-numbers", "Can a serial number be ground off? – Survey forum"}, {"https://market.example.net/offers/4471", "Offer 4471: six cases, one owner"}}
	soughtDeleted = []string{"what is a used theodolite worth", "remove engraved serial number brass", "ferry parcel lockers cameras"}
)
