// A harbour board on the gorilla/websocket library, as its users write it: a hub, two
// goroutines a client, and what waits for a client goes into one frame, line by line.
package main

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"

	"github.com/gorilla/websocket"
)

type client struct {
	conn *websocket.Conn
	send chan []byte
	name string
	room string
}

var (
	mu                sync.Mutex
	clients           = map[*client]bool{}
	received, written atomic.Int64
	upgrader          websocket.Upgrader
)

func main() {
	http.HandleFunc("/truth", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"received":%d,"written":%d}`, received.Load(), written.Load())
	})
	http.HandleFunc("/hub", serve)
	l, err := net.Listen("tcp", "127.0.0.1:"+os.Args[1])
	if err != nil {
		panic(err)
	}
	fmt.Println("ready")
	panic(http.Serve(l, nil))
}

// serve lets a client in: its name and its room stand in the address.
func serve(w http.ResponseWriter, r *http.Request) {
	conn, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return
	}
	c := &client{conn: conn, send: make(chan []byte, 1024), name: r.FormValue("name"), room: r.FormValue("room")}
	mu.Lock()
	clients[c] = true
	mu.Unlock()
	go c.write()
	defer func() {
		mu.Lock()
		delete(clients, c)
		close(c.send)
		mu.Unlock()
		conn.Close()
	}()
	for {
		_, text, err := conn.ReadMessage()
		if err != nil {
			return
		}
		received.Add(1)
		message, _ := json.Marshal(map[string]string{"from": c.name, "room": c.room, "text": string(text)})
		mu.Lock()
		for other := range clients {
			if other.room == c.room {
				other.send <- message
				written.Add(1)
			}
		}
		mu.Unlock()
	}
}

func (c *client) write() {
	for message := range c.send {
		w, err := c.conn.NextWriter(websocket.TextMessage)
		if err != nil {
			continue // until the reader has noticed, too
		}
		w.Write(message)
		for range len(c.send) {
			w.Write([]byte("\n"))
			w.Write(<-c.send)
		}
		w.Close()
	}
}
