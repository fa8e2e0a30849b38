package language

// wholeSays stands above WholeTrial in the reference.
const wholeSays = "What most trials need, with what each part is for.\n"

// WholeTrial is one that has what most have, for the reference.
const WholeTrial = `trial "morning at the locks" {
  prompt = "500ms" # what comes later is late
  grace  = "3s"    # what has not come by then is lost
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "board"
}

# How the server speaks: what clients send, and how what comes is recognised.
dialect "board" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room # from here on messages of the room are owed
    refused   = msg.kind == "refused"
    why       = msg.why
  }
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    payload = msg.text # compared byte for byte with what was said
  }
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
  other { when = msg.kind == "welcome" } # means nothing
}

# What one client does, from its first step to its last.
session "watch a lock" {
  connect {}
  enter { room = "lock-${n % 4}" } # n is the client's number in its crew
  repeat {
    every = "2s"
    say {
      payload = "berth ${n} is free, ${mark}" # the mark tells messages apart: it must be in each
      body    = { kind = "notice", room = room, text = payload }
    }
  }
}

crew "pilots" {
  clients = 40
  session = session["watch a lock"]
}

# How many clients there are, over time.
tide {
  flood "100%" { over = "5s" }
  slack { lasts = "20s" }
  ebb { over = "2s" }
}

# What must hold, besides what holds of every server: nothing lost, doubled, astray, altered, out of order.
limit "soon" {
  of    = spread.last.p99
  below = "200ms"
}
`
