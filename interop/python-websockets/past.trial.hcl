import "../pilots.hcl" {}

# The server as python-websockets.trial.hcl has it, whose rooms keep what was said.
trial "python-websockets, with a past" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  dialect   = "theirs"
}

dialect "theirs" {
  name {
    send      = { do = "hello", name = name }
    confirmed = msg.did == "hello"
  }

  enter {
    send      = { do = "join", room = room, past = true }
    confirmed = msg.did == "join" && msg.room == room
  }

  past { when = msg.did == "past" }

  heard {
    when    = msg.did == "post"
    room    = msg.room
    payload = msg.text
  }
}

session "watch" {
  connect {}
  enter {
    room    = "lock-${n % 3}"
    history = 200
  }
  repeat {
    every = "500ms"
    times = 6
    say { body = { do = "post", room = room, text = "berth ${n} ${mark}" } }
  }
  pause { lasts = "1m" }
}
