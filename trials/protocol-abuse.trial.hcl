# Under load, clients break the protocol, each in another of the ways that RFC 6455 forbids:
# the board must close each of them, and must not let in those whose handshake is wrong; and
# nobody else may notice.

trial "protocol abuse" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411"]
  ready   = "serving"
}

session "watch a lock" {
  connect {}
  enter { room = "lock-${n % 10 + 1}" }

  repeat {
    every  = "3s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning ${mark}" }
      reaches = "room"
    }
  }
}

session "break the protocol" {
  pause {
    lasts = "10s"
    most  = "20s"
  }
  connect {}
  enter { room = "lock-${n % 10 + 1}" }
  malformed {
    what   = "any"
    within = "2s"
  }
}

session "knock wrongly" {
  pause {
    lasts = "10s"
    most  = "20s"
  }
  connect { malformed = "any" }
}

crew "pilots" {
  clients = 300
  session = session["watch a lock"]
}

crew "vandals" {
  clients = 120
  session = session["break the protocol"]
}

crew "knockers" {
  clients = 60
  session = session["knock wrongly"]
}

tide {
  flood "100%" { over = "3s" }
  slack { lasts = "27s" }
  ebb { over = "2s" }
}
