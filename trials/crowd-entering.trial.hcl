# A thousand clients stand at the gate and enter the same few rooms at the same moment: is
# everybody in who was told so, and does each of them get what is said from then on?

trial "a crowd enters at once" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411"]
  ready   = "serving"
}

session "come with the others" {
  connect {}

  barrier "at the gate" { within = "30s" }
  enter { room = "lock-${n % 10 + 1}" }
  barrier "inside" { within = "30s" }

  repeat {
    every  = "10s"
    jitter = "50%"
    times  = 2

    say {
      body    = { kind = "notice", room = room, text = "${name}: here, standing by ${mark}" }
      reaches = "room"
    }
  }
  pause { lasts = "8s" }
}

crew "pilots" {
  clients = 1000
  session = session["come with the others"]
}

tide {
  flood "100%" { over = "5s" }
  slack { lasts = "35s" }
  ebb { over = "2s" }
}

limit "they are let in quickly" {
  of    = enter.p99
  below = "1s"
}
