# What scripts/screenshots looks for the capacity of: a stand-in that stores each notice before it relays it.
trial "one after the other" { grace = "1s" }
target "board" { websocket = "ws://127.0.0.1:7412/live" }
session "s" {
  connect {}
  enter { room = "lock-${n % 3}" }
  pause { lasts = "1200ms" } # until all are there
  repeat {
    every  = "500ms"
    jitter = "60%"
    say { body = { kind = "notice", room = room, text = "level ${mark}" } }
  }
}
crew "pilots" {
  clients = 1000
  session = session.s
}
tide {
  slack { lasts = "1h" }
}
limit "prompt" {
  of    = fanout.p99
  below = "200ms"
}
