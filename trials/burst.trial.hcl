# Quiet, and then each client of a room says ten things at once: does all of it arrive, and
# how long does it take until everybody has the last of it?

trial "a burst" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411"]
  ready   = "serving"
}

session "report at the hour" {
  connect {}
  enter { room = "lock-${n % 4 + 1}" }

  repeat {
    every = "10s"
    burst = 10

    say {
      body    = { kind = "notice", room = room, text = "${name}: tide gauge reading ${mark}" }
      reaches = "room"
    }
  }
}

crew "gauges" {
  clients = 100
  session = session["report at the hour"]
}

tide {
  flood "100%" { over = "2s" }
  slack { lasts = "30s" }
  ebb { over = "2s" }
}

limit "the last of it comes within a second" {
  of    = spread.last.p99
  below = "1s"
}
