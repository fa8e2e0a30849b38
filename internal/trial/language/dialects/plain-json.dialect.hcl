# One JSON object a message; a field "kind" names what it is. This is what the
# stand-in's harbour board speaks. Copy it into a trial and change it there for
# a server that uses other words.
dialect "plain-json" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
    refused   = msg.kind == "refused" && msg.what == "name"
  }

  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
    refused   = msg.kind == "refused" && msg.what == "enter"
  }

  leave {
    send      = { kind = "leave", room = room }
    confirmed = msg.kind == "left" && msg.room == room
  }

  past {
    when = msg.kind == "past"
    seq  = msg.seq
  }

  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
  }

  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }

  # The greeting, and what becomes of a whisper for somebody who has just left.
  other { when = msg.kind == "welcome" || msg.kind == "refused" && msg.why == "nobody has that name" }

  goodbye {
    send = { kind = "bye" }
  }

  switch {
    send      = { kind = "probe" }
    confirmed = msg.kind == "ready"
    then      = { kind = "switch" }
  }
}
