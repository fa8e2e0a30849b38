# The harbour board at the height of the tide: it is asked to end, and is back two seconds
# later; then it is killed; then the connections of a third of the clients are cut. Everybody
# comes back, a while apart from each other, and goes on where they were.

trial "restart at high water" {
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

  enter {
    room = "lock-${n % 40 + 1}"
  }

  repeat {
    every  = "10s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning, stand by ${mark}" }
      reaches = "room"
    }
  }
}

crew "pilots" {
  clients = 1500
  session = session["watch a lock"]

  reconnect {
    first  = "500ms"
    most   = "5s"
    jitter = "full"
  }
}

crew "tugs" {
  clients = 500
  session = session["watch a lock"]

  reconnect { # all at once, and again each second: how not to do it
    first  = "1s"
    factor = 1
    jitter = "none"
  }
}

tide {
  flood "100%" { over = "8s" }
  slack { lasts = "42s" }
  ebb { over = "5s" }
}

fault "the board is deployed" {
  do    = "restart"
  at    = "14s"
  lasts = "2s"
}

fault "the board falls over" {
  do    = "restart"
  rude  = true
  at    = "26s"
  lasts = "3s"
}

fault "a quay loses power" {
  do    = "cut"
  at    = "40s"
  lasts = "2s"
  share = "33%"
}

limit "everybody is back within ten seconds" {
  of    = returns.back_in.max
  below = "10s"
}
