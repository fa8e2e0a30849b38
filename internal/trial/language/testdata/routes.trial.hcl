trial "wrong routes" { grace = "2s" }

target "board" {
  events    = "http://127.0.0.1:7411/events?client=${nmae}"
  ended_by  = "\n"
  post      = "/say?client=${captured}"
  every     = "1s"
  route "polling" {
    polling = "http://${name}/poll"
    every   = "3s"
  }
  route "polling" { stream = "ws://127.0.0.1:7411/live" }
  route "several" {
    polling   = "http://127.0.0.1:7411/poll"
    websocket = "ws://127.0.0.1:7411/live"
  }
  route "none" { post_end = true }
  route "datagrams" {
    udp   = "tcp://127.0.0.1:7411"
    every = "1s"
  }
  route "both" {
    lines  = "tcp://127.0.0.1:7411"
    urgent = "udp://127.0.0.1"
  }
  proxy = "http://127.0.0.1:3128"
}

session "watch" {
  connect { subprotocol = "board" }
  say {
    binary  = true
    body    = mark
    reaches = "room"
  }
}

crew "pilots" {
  clients = 1
  session = session.watch
  routes  = ["events", "pigeon"]
}

tide {
  slack { lasts = "1s" }
}
