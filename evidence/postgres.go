package evidence

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"isonomos/core/count"
	"isonomos/core/flow"
	"isonomos/core/near"
	"isonomos/core/service"
)

// A Table is flows in a database that speaks the PostgreSQL protocol.
type Table struct {
	Connection string // a connection string; what it omits comes from the usual environment variables and files
	Name       string // of the table or view, or empty
	Query      string // a query for the flows, if there is no Name
	// From and To bound the starts of flows: From <= start < To, in seconds since 1970. Zero means
	// no bound.
	From, To int64
}

// ReadTable has the server sum the flows of a table by ends, service and day, so that the amount of
// data sent grows with the number of different flows. Each sum goes into the summary that into
// returns for its day. The statements use plain SQL (casts, CASE, GROUP BY, floor, extract), so
// that other engines understand them. A failed query is not repeated.
func ReadTable(ctx context.Context, t Table, o Options, into func(day int32) *flow.Summary) (Report, error) {
	report := Report{Format: "SQL"}
	config, err := pgx.ParseConfig(t.Connection)
	if err != nil {
		return report, fmt.Errorf("the database can't be reached with these settings: %w", withoutSecrets(err))
	}
	db, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return report, fmt.Errorf("the database can't be reached: %w", withoutSecrets(err))
	}
	defer db.Close(context.WithoutCancel(ctx))
	from := "(" + strings.TrimRight(strings.TrimSpace(t.Query), ";") + "\n) as flows"
	if t.Name != "" {
		from = pgx.Identifier(strings.Split(t.Name, ".")).Sanitize() + " as flows"
	}
	statement, hasReply, err := statementFor(ctx, db, from, t, o)
	if err != nil {
		return report, err
	}
	rows, err := db.Query(ctx, statement)
	if err != nil {
		return report, fmt.Errorf("the database does not sum the flows: %w", err)
	}
	defer rows.Close()
	for n := 1; rows.Next(); n++ {
		var row sqlRow
		if err := rows.Scan(&row.src, &row.dst, &row.protocol, &row.srcPort, &row.port, &row.day, &row.flows,
			&row.answered, &row.attempts, &row.loaded, &row.refused,
			&row.first, &row.last, &row.longest, &row.lasted, &row.packets, &row.bytes,
			&row.replyBytes); err != nil {
			return report, fmt.Errorf("row %d of the sums can't be read: %w", n, err)
		}
		if err := row.add(into, hasReply); err != nil {
			report.Skipped.add(n, func() string { return fmt.Sprintf("row %d of the sums: %v", n, err) })
			continue
		}
		report.Records += int(row.flows)
	}
	if err := rows.Err(); err != nil {
		return report, fmt.Errorf("the database gave up: %w", err)
	}
	if o.Strict && report.Skipped.Count > 0 {
		return report, fmt.Errorf("%s (%s in all)", report.Skipped.First,
			count.Of(report.Skipped.Count, "such row", "such rows"))
	}
	return report, nil
}

// withoutSecrets is an error without the connection string, which may contain a password.
func withoutSecrets(err error) error {
	var parse *pgconn.ParseConfigError
	if errors.As(err, &parse) {
		return errors.New("they can't be understood; look at --database and the PG… variables of the environment")
	}
	return err
}

// statementFor writes the summing statement, for the columns that the table has and their types.
func statementFor(ctx context.Context, db *pgx.Conn, from string, t Table, o Options) (statement string,
	hasReply bool, err error) {
	look, err := db.Query(ctx, "select * from "+from+" limit 0")
	if err != nil {
		return "", false, fmt.Errorf("the flows can't be read from the database: %w", err)
	}
	types := make(map[string]uint32)
	var names []string
	for _, f := range look.FieldDescriptions() {
		types[f.Name] = f.DataTypeOID
		names = append(names, f.Name)
	}
	look.Close()
	if err := look.Err(); err != nil {
		return "", false, fmt.Errorf("the flows can't be read from the database: %w", err)
	}
	column := func(name string) string {
		if theirs := o.theirs(name); slices.Contains(names, theirs) {
			return pgx.Identifier{theirs}.Sanitize()
		}
		return ""
	}
	for _, name := range Columns {
		theirs := o.theirs(name)
		if _, mapped := o.Columns[name]; slices.Contains(names, theirs) || !mapped && !slices.Contains(needed, name) {
			continue
		}
		hint := ""
		if best, ok := near.Best(theirs, names); ok {
			hint = fmt.Sprintf(" (there is %q)", best)
		}
		return "", false, fmt.Errorf("the flows have no column %q%s: they need %s; what is called otherwise can "+
			"be named with --column %s=THEIRS", theirs, hint, strings.Join(needed, ", "), name)
	}
	seconds := func(name string) string {
		c := column(name)
		switch types[o.theirs(name)] {
		case pgtype.TimestampOID, pgtype.TimestamptzOID, pgtype.DateOID:
			return "cast(extract(epoch from " + c + ") as double precision)"
		}
		return "cast(" + c + " as double precision)"
	}
	number := func(name string) string {
		if c := column(name); c != "" {
			return "coalesce(cast(" + c + " as bigint), 0)"
		}
		return "0"
	}
	start := seconds("start")
	end := start
	if column("end") != "" {
		end = "coalesce(" + seconds("end") + ", " + start + ")"
	}
	refused, apart := "false", ""
	if c := column("verdict"); c != "" {
		refused = "coalesce(cast(" + c + " as text), '') = 'refused'"
		apart = ", " + refused
	}
	count := func(condition string) string { return "sum(case when " + condition + " then 1 else 0 end)" }
	answered := "0"
	if hasReply = column("reply_packets") != ""; hasReply {
		answered = count(number("reply_packets") + " > 0")
	}
	attempted, loaded := contentSQL(protocolSQL(column("protocol")), "cast("+column("src")+" as text)",
		number("packets"), number("bytes"), number("reply_packets"), number("reply_bytes"), hasReply)
	// Ephemeral ports are left out of the key if the other port shows which side is the server:
	// this is what keeps the sums few.
	protocol := protocolSQL(column("protocol"))
	srcPort, port := "0", number("dst_port")
	if column("src_port") != "" && !hasReply {
		portful := protocol + " in ('tcp', '6', 'udp', '17')"
		there, back := rankSQL(protocol, number("dst_port")), rankSQL(protocol, number("src_port"))
		srcPort = "case when " + portful + " and " + number("src_port") + " > 0 and " + there + " >= " + back +
			" then " + number("src_port") + " else 0 end"
		port = "case when " + portful + " and " + number("src_port") + " > 0 and " + back + " < " + there +
			" then 0 else " + number("dst_port") + " end"
	}
	total := func(e string) string { return "cast(sum(" + e + ") as double precision)" }
	where := ""
	if t.From > 0 || t.To > 0 {
		to := t.To
		if to == 0 {
			to = latest
		}
		where = fmt.Sprintf(" where %s >= %d and %s < %d", start, t.From, start, to)
	}
	return "select cast(" + column("src") + " as text), cast(" + column("dst") + " as text), " + protocol +
		", cast(" + srcPort + " as bigint), cast(" + port + " as bigint), " +
		"cast(floor(" + start + " / 86400) as bigint), cast(" + count("not ("+refused+")") + " as bigint), cast(" +
		answered + " as bigint), cast(" + count(attempted) + " as bigint), cast(" + count(loaded) +
		" as bigint), cast(" + count(refused) + " as bigint), " +
		"min(" + start + "), max(" + end + "), max(" + end + " - " + start + "), " + total(end+" - "+start) + ", " +
		total(number("packets")) + ", " + total(number("bytes")) + ", " + total(number("reply_bytes")) +
		" from " + from + where + " group by 1, 2, 3, 4, 5, 6" + apart, hasReply, nil
}

func protocolSQL(column string) string { return "lower(cast(" + column + " as text))" }

// contentSQL says of a record whether it was no more than an attempt, and whether its client sent
// payload, in the same way as package flow.
func contentSQL(protocol, src, packets, bytes, replyPackets, replyBytes string, hasReply bool) (attempted,
	loaded string) {
	tcp, udp := protocol+" in ('tcp', '6')", protocol+" in ('udp', '17', 'udplite', '136')"
	ip := "(case when " + src + " like '%:%' then 40 else 20 end)"
	payload := func(packets, bytes string) string {
		return "(" + packets + " > 0 and (case when " + tcp + " then " + bytes + " > " + packets + " * (" + ip +
			" + 40) when " + udp + " then " + bytes + " > " + packets + " * (" + ip + " + 8) else " + bytes +
			" > " + packets + " * " + ip + " end))"
	}
	untold := "(" + packets + " = 0 or " + bytes + " = 0)"
	sent, replied := payload(packets, bytes), payload(replyPackets, replyBytes)
	byTCP := "case when " + untold + " then false else " + packets + " <= 3 end"
	byUDP := "not " + untold
	if hasReply {
		byTCP = "case when " + untold + " then " + replyPackets + " = 0 when " + replyPackets + " = 0 then " +
			packets + " <= 3 or " + packets + " <= 7 and " + bytes + " % " + packets + " = 0 else " +
			packets + " <= 3 end"
		byUDP += " and " + replyPackets + " = 0"
	}
	small := "false"
	if hasReply {
		small = tcp + " and " + replyPackets + " = 0 and " + packets + " between 1 and 3 and " + bytes +
			" <= 120 * " + packets
	}
	return "(" + small + " or not " + sent + " and not " + replied + " and (case when " + tcp + " then " + byTCP +
		" when " + udp + " then " + byUDP + " else false end))", untold + " or " + sent
}

// rankSQL ranks how likely a port is the server's, in the same way as package flow.
func rankSQL(protocol, port string) string {
	var tcp, udp []string
	for _, n := range service.Builtin {
		for _, s := range n.Specs {
			for p := int(s.From); p <= int(s.To) && s.From > 0; p++ {
				switch s.Protocol {
				case service.TCP:
					tcp = append(tcp, strconv.Itoa(p))
				case service.UDP:
					udp = append(udp, strconv.Itoa(p))
				}
			}
		}
	}
	return "case when " + protocol + " in ('tcp', '6') and " + port + " in (" + strings.Join(tcp, ",") + ") or " +
		protocol + " in ('udp', '17') and " + port + " in (" + strings.Join(udp, ",") + ") then 0" +
		" when " + port + " < 1024 then 1 when " + port + " < 32768 then 2 else 3 end"
}

// A sqlRow is a sum by the server, for a key and a day.
type sqlRow struct {
	src, dst, protocol           *string
	srcPort, port, day           int64
	flows, answered, refused     int64
	attempts, loaded             int64
	first, last, longest, lasted float64
	packets, bytes, replyBytes   float64
}

func (row *sqlRow) add(into func(day int32) *flow.Summary, hasReply bool) error {
	if row.src == nil || row.dst == nil || row.protocol == nil {
		return errors.New("an address or the protocol is missing")
	}
	var r flow.Record
	var err error
	if r.Source, err = inet(*row.src); err != nil {
		return err
	}
	if r.Destination, err = inet(*row.dst); err != nil {
		return err
	}
	if r.Protocol, err = protocol([]byte(*row.protocol)); err != nil {
		return err
	}
	for _, p := range []int64{row.srcPort, row.port} {
		if p < 0 || p > 65535 {
			return fmt.Errorf("a port is %d: it goes from 0 to 65535", p)
		}
	}
	r.SourcePort, r.Port = uint16(row.srcPort), uint16(row.port)
	if row.first < 0 || row.last >= latest || row.day < 0 || row.day > int64(latest)/86400 {
		return errors.New("a time is before 1970, or not in seconds")
	}
	sum := into(int32(row.day))
	if row.refused > 0 {
		sum.AddRefused(int64(row.first), int(row.refused))
		return nil
	}
	s := flow.Sum{First: int64(row.first), Last: int64(row.last), Longest: int64(max(0, row.longest)),
		Lasted:  int64(max(0, row.lasted)),
		Packets: uint64(math.Max(0, row.packets)), Bytes: uint64(math.Max(0, row.bytes)),
		ReplyBytes: uint64(math.Max(0, row.replyBytes)), Attempts: int(row.attempts), Loaded: int(row.loaded)}
	s.Days.Add(int32(row.day))
	if hasReply {
		s.Source, s.Destination, s.Service = r.Source, r.Destination, r.Service()
		s.Flows, s.Completed = int(row.flows), int(row.answered)
		sum.AddSum(s)
		return nil
	}
	if r.Port == 0 && r.SourcePort > 0 { // the source is the server, and the client's port was left out
		r.Opened = flow.ByDestination
		r.Port = r.SourcePort
	}
	sum.AddOneWay(s, int(row.flows), &r)
	return nil
}

// inet reads an address as databases write it, possibly with a prefix length.
func inet(text string) (netip.Addr, error) {
	if host, bits, ok := strings.Cut(text, "/"); ok && (bits == "32" || bits == "128") {
		text = host
	}
	return address([]byte(text))
}
