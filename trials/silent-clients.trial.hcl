# A board that promises its clients a ping each two seconds, and to close within four seconds
# who does not answer. Some of the clients stop giving signs of life, each in a way of its
# own: does the board notice who is dead, and leave the living alone? Are the others told?

trial "silent clients" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "harbour"

  promise {
    every    = "2s"
    deadline = "4s"
  }
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411", "--ping-every", "2s",
    "--pong-within", "4s", "--notices"]
  ready   = "serving"

  # What it says of itself: is anything left when everybody has gone?
  metrics     = "http://127.0.0.1:7411/metrics"
  connections = "harbour_connections"
  members     = "harbour_members"
  presence    = "harbour_present"
}

dialect "harbour" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  other { when = msg.kind == "welcome" }
  past { when = msg.kind == "past" }
  heard {
    when = msg.kind == "notice"
    room = msg.room
  }
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
  joined {
    when = msg.kind == "joined"
    room = msg.room
    name = msg.name
  }
  gone {
    when = msg.kind == "gone"
    room = msg.room
    name = msg.name
  }
}

session "watch a lock" {
  connect {}

  enter {
    room = "lock-${n % 20 + 1}"
  }

  repeat {
    every  = "5s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning, stand by ${mark}" }
      reaches = "room"
    }
  }
}

crew "pilots" {
  clients = 400
  session = session["watch a lock"]

  misbehave { # the screen is locked, the program sleeps
    do    = "silent"
    share = "5%"
    after = "12s"
  }
  misbehave { # slow, and in time
    do    = "late"
    by    = "2s"
    share = "5%"
    after = "12s"
  }
  misbehave { # a program that hangs
    do    = "frozen"
    share = "5%"
    after = "12s"
  }
  misbehave { # out of the harbour, out of reach
    do    = "unplugged"
    share = "5%"
    after = "12s"
  }
}

tide {
  flood "100%" { over = "6s" }
  slack { lasts = "30s" }
  ebb { over = "3s" }
}
