# One client of a big room reads slowly, and everybody else reads as fast as ever: what
# becomes of the others in its room, and of those in other rooms? And what does the board do
# with what waits for the slow one: keep it, drop it, or close the connection?

trial "a slow reader in a big room" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411"]
  ready   = "serving"
}

session "watch the basin" {
  connect {}
  enter { room = "basin" }

  repeat {
    every  = "4s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: berth change ${mark} ${filler(2000)}" }
      reaches = "room"
    }
  }
}

session "watch a lock" {
  connect {}
  enter { room = "lock-${n % 5 + 1}" }

  repeat {
    every  = "4s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning ${mark}" }
      reaches = "room"
    }
  }
}

session "a screen that hangs" {
  connect {}
  enter { room = "basin" }
  pause { lasts = "12s" }
  read_slowly { bytes_per_second = 2000 }
  pause { lasts = "12s" }
  read_slowly { bytes_per_second = 0 }
  pause { lasts = "10s" }
}

crew "in the basin" {
  clients = 200
  session = session["watch the basin"]
}

crew "at the locks" {
  clients = 100
  session = session["watch a lock"]
}

crew "slow" {
  clients = 1
  session = session["a screen that hangs"]
}

tide {
  flood "100%" { over = "3s" }
  slack { lasts = "36s" }
  ebb { over = "2s" }
}

limit "nobody else waits" {
  of    = fanout.p99
  below = "200ms"
}

limit "what waits is bounded" {
  of      = server.memory_most
  at_most = 500e6
}
