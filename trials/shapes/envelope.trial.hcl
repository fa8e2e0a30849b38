# The kind of a message stands outside, and what it says in an envelope:
# {"event": "notice", "data": {"room": "lock-1", ...}}.
#
#   tidepull standin --shape envelope
#   tidepull run trials/shapes/envelope.trial.hcl

trial "envelope" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "envelopes"
}

dialect "envelopes" {
  name {
    send      = { event = "name", data = { name = name } }
    confirmed = msg.event == "named"
  }

  enter {
    send      = { event = "enter", data = { room = room } }
    confirmed = msg.event == "entered" && msg.data.room == room
  }

  heard {
    when    = msg.event == "notice"
    room    = msg.data.room
    seq     = msg.data.seq
    payload = msg.data.text
  }

  presence {
    when    = msg.event == "presence"
    room    = msg.data.room
    members = msg.data.members
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "500ms"
    times = 5
    say { body = { event = "notice", data = { room = room, text = "berth ${n} is free ${mark}" } } }
  }
  pause { lasts = "1m" }
}

crew "pilots" {
  clients = 12
  session = session.watch
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "4s" }
  ebb { over = "1s" }
}

limit "nothing is lost" {
  of     = ledger.lost
  equals = 0
}

limit "nothing comes twice" {
  of     = ledger.duplicate
  equals = 0
}
