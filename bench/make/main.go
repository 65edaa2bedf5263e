// Command make writes the input of bench/evidence.sh: flows as CSV, packets as a capture, and a
// small estate that they belong to.
package main

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
)

const definitions = `estate bench
cloud northmere { dialect union }
account tides { cloud northmere }
network quay in tides { range 10.20.0.0/16 }
group subject in quay { admit tcp 22 from everyone }
`

func main() {
	folder := os.Args[1]
	records, err := strconv.Atoi(os.Args[2])
	if err != nil {
		log.Fatal(err)
	}
	packets, err := strconv.Atoi(os.Args[3])
	if err != nil {
		log.Fatal(err)
	}
	random := rand.New(rand.NewPCG(6, 6))
	if err := os.MkdirAll(filepath.Join(folder, "estate"), 0o755); err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "estate", "bench.nomos"), []byte(definitions), 0o644); err != nil {
		log.Fatal(err)
	}
	write(filepath.Join(folder, "flows.csv"), func(w *bufio.Writer) {
		fmt.Fprintln(w, "start,end,src,dst,protocol,src_port,dst_port,packets,bytes,reply_packets,reply_bytes,verdict")
		ports := []int{22, 443, 5432, 8443, 53, 123, 8883, 5671}
		// distinct combinations of ends and service; some of them are seen far more often than
		// others
		const pairs = 100_000
		for i := range records {
			u := random.Float64()
			k := int(pairs * u * u * u)
			fmt.Fprintf(w,
				"2026-11-%02dT%02d:%02d:%02dZ,2026-11-%02dT%02d:%02d:%02dZ,10.20.%d.%d,10.20.%d.%d,tcp,"+
					"%d,%d,%d,%d,%d,%d,admitted\n",
				6+i*14/records, i%24, i%60, i*7%60, 6+i*14/records, i%24, i%60, i*7%60, k%16, k/16%250, k/4000%4,
				k/16000%50,
				32768+random.IntN(28000), ports[k*7%len(ports)], 3+random.IntN(40), 300+random.IntN(9000),
				random.IntN(40), random.IntN(90000))
		}
	})
	write(filepath.Join(folder, "packets.pcap"), func(w *bufio.Writer) {
		head := make([]byte, 24)
		binary.LittleEndian.PutUint32(head, 0xa1b2c3d4)
		binary.LittleEndian.PutUint16(head[4:], 2)
		binary.LittleEndian.PutUint16(head[6:], 4)
		binary.LittleEndian.PutUint32(head[16:], 65535)
		binary.LittleEndian.PutUint32(head[20:], 1)
		w.Write(head)
		for i := range packets {
			conversation := i / 20 // a conversation is about twenty packets
			payload := 0
			flags := byte(0x10)
			switch i % 20 {
			case 0:
				flags = 0x02
			case 1:
				flags = 0x12
			case 19:
				flags = 0x11
			default:
				payload = random.IntN(1200)
			}
			client, server := [4]byte{10, 20, byte(conversation >> 8 & 15), byte(conversation)},
				[4]byte{10, 20, 1, byte(conversation % 50)}
			from, to := uint16(32768+conversation%28000), uint16(443)
			p := make([]byte, 16+14+40+payload)
			if i%2 == 1 {
				client, server, from, to = server, client, to, from
			}
			binary.LittleEndian.PutUint32(p, uint32(1794000000+i/1000))
			binary.LittleEndian.PutUint32(p[4:], uint32(i%1000*1000))
			binary.LittleEndian.PutUint32(p[8:], uint32(54+payload))
			binary.LittleEndian.PutUint32(p[12:], uint32(54+payload))
			ip := p[30:]
			p[28], p[29] = 8, 0
			ip[0], ip[8], ip[9] = 0x45, 64, 6
			binary.BigEndian.PutUint16(ip[2:], uint16(40+payload))
			copy(ip[12:], client[:])
			copy(ip[16:], server[:])
			binary.BigEndian.PutUint16(ip[20:], from)
			binary.BigEndian.PutUint16(ip[22:], to)
			ip[32], ip[33] = 0x50, flags
			w.Write(p)
		}
	})
}

func write(path string, fill func(*bufio.Writer)) {
	f, err := os.Create(path)
	if err != nil {
		log.Fatal(err)
	}
	w := bufio.NewWriterSize(f, 1<<20)
	fill(w)
	if err := w.Flush(); err != nil {
		log.Fatal(err)
	}
	if err := f.Close(); err != nil {
		log.Fatal(err)
	}
}
