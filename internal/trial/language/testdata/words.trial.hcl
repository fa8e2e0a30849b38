trial "t" {
  sead = 7
}

target "board" {
  websocket = "http://127.0.0.1:7411/live"
  dialect   = "plain-jsn"
}

session "watch" {
  connect {}
  expect "greeting" {
    when   = mesg.kind == "welcome"
    within = "2 sec"
  }
  enter { room = "lock-${m % 8}" }
  repeat {
    every  = "5s"
    jitter = "120%"
    say {
      body    = { kind = "notice", text = "no token" }
      reaches = "rooom"
    }
  }
}

session "watch" {
  enter {}
}

crew "pilots" {
  clients = 0
  session = session.wach
}

crew "tugs" {
  clients = 1.5
  session = "watch"
}

tide {
  flood "100%" { over = "20s" }
  flood "50%" { over = 20 }
  ebb { over = "10s" }
  slak { lasts = "1s" }
}

limit "prompt" {
  of    = fanout.p98
  below = "50ms"
}

limit "none" {
  of       = ledger.lost
  equals   = 0
  at_least = 1
}

limit "twice" {
  of    = fanout.p50
  below = 3
}
