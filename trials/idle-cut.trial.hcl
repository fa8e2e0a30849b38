# Between the clients and the board stands a proxy that cuts what is idle for three seconds.
# The board pings its clients each five seconds: that is too seldom, and the quiet ones are cut
# again and again. Do they come back, and is anything lost? With --ping-every 2s it holds.

trial "a proxy cuts what is idle" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411", "--ping-every", "5s"]
  ready   = "serving"
}

session "watch a busy lock" {
  connect {}
  enter { room = "lock-${n % 5 + 1}" }

  repeat {
    every  = "2s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning ${mark}" }
      reaches = "room"
    }
  }
}

session "watch a quiet berth" {
  connect {}
  enter { room = "berth-${n}" }

  repeat {
    every  = "15s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: alongside ${mark}" }
      reaches = "room"
    }
  }
}

crew "busy" {
  clients = 100
  session = session["watch a busy lock"]
}

crew "quiet" {
  clients = 100
  session = session["watch a quiet berth"]

  reconnect {
    first  = "200ms"
    most   = "2s"
    jitter = "full"
  }
}

tide {
  flood "100%" { over = "3s" }
  slack { lasts = "32s" }
  ebb { over = "2s" }
}

fault "an impatient proxy" {
  do    = "cut_idle"
  by    = "3s"
  at    = "8s"
  lasts = "20s"
}
