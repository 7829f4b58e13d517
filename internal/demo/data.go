// Package demo holds the demo's world, Tern & Skerry Ferries: three databases,
// made from a seed, always the same.
package demo

import (
	"embed"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

//go:embed schema
var schemas embed.FS

// Seed is the seed of the demo's data.
const Seed = 1887

// Database is one database of the demo.
type Database struct {
	Name   string
	Tables []Table
}

// Table is a table with its rows.
type Table struct {
	Name    string
	Columns []string
	Rows    [][]any // nil, int64, float64, string or []byte
}

// Schema gives the SQL that comes before the rows and after them.
func (d Database) Schema(engine string) (before, after string, err error) {
	b, err := schemas.ReadFile("schema/" + engine + "/" + d.Name + ".sql")
	if err != nil {
		return "", "", err
	}
	a, err := schemas.ReadFile("schema/" + engine + "/" + d.Name + "-after.sql")
	return string(b), string(a), err
}

type world struct{ *rand.Rand }

// Databases makes the data of all three. Scale 1 is about 60,000 rows.
func Databases(scale int) []Database {
	w := world{rand.New(rand.NewPCG(Seed, 4))}
	return []Database{w.bookings(scale), w.cargo(scale), w.roster(scale)}
}

var (
	given = []string{"Marin", "Eydna", "Jógvan", "Sólrun", "Tórður", "Ása", "Niels", "Brona", "Θεοδώρα", "Νίκος",
		"Ольга", "Пётр", "花子", "健一", "ليلى", "דוד", "Zoë", "Œgir", "Þóra", "Łucja"}
	family = []string{"Skarvsker", "Haldrup", "av Ternoy", "O'Mara", "Lindbakke", "Steinsund", "Παπαδάκης",
		"Морозова", "山本", "حداد", "Ström-Vik", "d'Aubrac", "Ní Bhroin", "Østervåg"}
	ports = [][2]string{{"TRN", "Ternoy"}, {"SKR", "Skerryvoe"}, {"HAL", "Halsund"}, {"BRA", "Brattholm"}, {"GUL",
		"Gullhaven"}, {"NYV", "Nývík"}, {"STA", "Stakksnes"}, {"LUN", "Lundey"}, {"ORF", "Orfirth"}, {"KVA",
		"Kvalsund"}, {"EID", "Eiðisbyr"}, {"SAN", "Sandwick Ness"}}
	ships = []string{"Arctic Tern", "Black Guillemot", "Skerry Light", "Lady of Halsund", "Stormy Petrel", "Kittiwake"}
	epoch = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
)

func (w world) name() string { return w.of(given) + " " + w.of(family) }

func (w world) of(list []string) string { return list[w.IntN(len(list))] }

func (w world) when(days int) string {
	return epoch.Add(time.Duration(w.IntN(days*86400)) * time.Second).Format("2006-01-02 15:04:05")
}

func (w world) maybe(percent int, v any) any {
	if w.IntN(100) < percent {
		return v
	}
	return nil
}

func (w world) bytes(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(w.Uint32())
	}
	return b
}

func rows(n int, f func(id int64) []any) (list [][]any) {
	for i := range n {
		list = append(list, f(int64(i+1)))
	}
	return list
}

// accounts of the ledger; every entry moves money between two of them.
var accounts = []string{"Cash on board", "Card terminal", "Ticket revenue", "Cabin revenue", "Vehicle deck",
	"Refunds", "Harbour dues", "Deposits held"}

func (w world) bookings(scale int) Database {
	passengers, sailings, bookings := 6000*scale, 1800*scale, 11000*scale
	d := Database{Name: "bookings"}
	d.add("port", "code,name,latitude,longitude", rows(len(ports), func(i int64) []any {
		return []any{ports[i-1][0], ports[i-1][1], 61 + w.Float64(), -7 + w.Float64()*0.9}
	}))
	d.add("vessel", "id,name,built,length_m,retired_on", rows(len(ships), func(i int64) []any {
		return []any{i, ships[i-1], int64(1979 + w.IntN(40)), 40 + float64(w.IntN(800))/10, w.maybe(15, "2025-10-31")}
	}))
	var cabins [][]any
	for v := range int64(len(ships)) {
		for n := range int64(40) {
			cabins = append(cabins, []any{v + 1, 100 + n, w.of([]string{"inside", "outside", "suite"}), int64(1 +
				w.IntN(4))})
		}
	}
	d.add("cabin", "vessel_id,number,class,berths", cabins)
	d.add("passenger", "id,name,email,phone,born,note", rows(passengers, func(i int64) []any {
		note := w.of([]string{"vegetarian", "travels with a dog\nneeds a ramp", "says \"call first\"",
			"50% child fare; don't split cabin", "⚓ regular", "tab\there"})
		return []any{i, w.name(), fmt.Sprintf("Guest%d@example.test", i), w.maybe(60,
			fmt.Sprintf("+298 %06d", w.IntN(1e6))),
			fmt.Sprintf("%04d-%02d-%02d", 1935+w.IntN(85), 1+w.IntN(12), 1+w.IntN(28)), w.maybe(20, note)}
	}))
	d.add("sailing", "id,vessel_id,from_port,to_port,departs,delay_min,status", rows(sailings, func(i int64) []any {
		a := w.IntN(len(ports))
		b := (a + 1 + w.IntN(len(ports)-1)) % len(ports)
		return []any{i, int64(1 + w.IntN(len(ships))), ports[a][0], ports[b][0], w.when(240), w.maybe(30,
			int64(w.IntN(180))),
			w.of([]string{"planned", "boarding", "sailed", "sailed", "sailed", "cancelled"})}
	}))
	var postings [][]any
	d.add("booking", "id,reference,sailing_id,passenger_id,made_at,seats,price,vehicle", rows(bookings,
		func(i int64) []any {
			price := int64(2500 + w.IntN(60000))
			from, to := int64(1+w.IntN(2)), int64(3+w.IntN(3))
			postings = append(postings, []any{2*i - 1, i, from, price}, []any{2 * i, i, to, -price})
			return []any{i, fmt.Sprintf("TS%07X", 0x100000+i*37), int64(1 + w.IntN(sailings)), int64(1 +
				w.IntN(passengers)), w.when(240),
				int64(1 + w.IntN(5)), price, w.maybe(35, w.of([]string{"car", "van", "bicycle", "motorcycle",
					"lorry 12 m"}))}
		}))
	d.add("account", "id,name", rows(len(accounts), func(i int64) []any { return []any{i, accounts[i-1]} }))
	d.add("posting", "id,booking_id,account_id,amount", postings)
	return d
}

func (w world) cargo(scale int) Database {
	items := 5200 * scale
	d := Database{Name: "cargo"}
	d.add("shipper", "id,name,credit_limit", rows(120, func(i int64) []any {
		return []any{i, w.of(family) + " " + w.of([]string{"Freight", "Fisk", "Timber", "& Sønner", "Trading"}),
			w.maybe(80, float64(w.IntN(1e7))/100)}
	}))
	d.add("consignment", "id,shipper_id,loaded_on,hazard", rows(900*scale, func(i int64) []any {
		return []any{i, int64(1 + w.IntN(120)), w.when(240)[:10], w.maybe(8,
			w.of([]string{"UN1203", "UN1950", "UN3480"}))}
	}))
	goods := []string{"salted cod", "wool bales", "engine block", "seed potatoes", "laboratory glass",
		"piano (upright)", "sheep, live", "turbine blade", "книги", "緑茶"}
	d.add("item", "id,consignment_id,description,weight_kg,volume_m3", rows(items, func(i int64) []any {
		return []any{i, int64(1 + w.IntN(900*scale)), w.of(goods) +
			w.of([]string{"", ", fragile", ", keep dry", " — lot " + fmt.Sprint(i%97)}),
			w.ExpFloat64() * 120, w.maybe(70, w.Float64()*9)}
	}))
	d.add("seal_scan", "item_id,image", rows(300*scale, func(i int64) []any {
		return []any{i * 3, w.bytes(200 + w.IntN(3000))}
	}))
	return d
}

func (w world) roster(scale int) Database {
	crew := 260
	d := Database{Name: "roster"}
	d.add("crew", "id,name,rank,joined_on,certificate", rows(crew, func(i int64) []any {
		return []any{i, w.name(), w.of([]string{"master", "mate", "engineer", "deckhand", "steward", "cook"}),
			w.when(900)[:10], w.maybe(70, w.bytes(48))}
	}))
	d.add("shift", "id,crew_id,starts_at,hours,remark", rows(7200*scale, func(i int64) []any {
		return []any{i, int64(1 + w.IntN(crew)), w.when(240), float64(w.IntN(96)) / 8, w.maybe(10,
			w.of([]string{"swapped", "ill", "φουρτούνα", "late: fog", "перенос"}))}
	}))
	d.add("setting", "name,value", [][]any{{"rota.zone", "Atlantic/Faroe"}, {"rota.weeks", int64(6)},
		{"overtime.factor", 1.5}, {"logo", w.bytes(900)}, {"retired", nil}})
	return d
}

func (d *Database) add(name, columns string, rows [][]any) {
	d.Tables = append(d.Tables, Table{Name: name, Columns: strings.Split(columns, ","), Rows: rows})
}
