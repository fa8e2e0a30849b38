# What the harbour board promises, in the words that a survey is made of: who hears what, in which order, by when
# clients are closed that give no sign of life or do not read, what who enters or comes back is given, and what
# must be refused.

trial "the harbour board" {
  prompt = "500ms"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live?client=${crew}-${n}"
  dialect   = "board"
  order     = "same"

  route "polling" {
    polling  = "http://127.0.0.1:7411/poll?client=${crew}-${n}"
    post_end = true
  }

  promise {
    from     = "server"
    every    = "2s"
    deadline = "10s"
  }
}

dialect "board" {
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

session "watch a lock" {
  connect {}

  enter {
    room    = "lock-${n % 4}"
    history = 200
  }

  repeat {
    every  = "2s"
    jitter = "20%"

    say {
      payload = "${name}: gate turning"
      body    = { kind = "notice", room = room, ref = mark, text = payload }
    }

    whisper {
      to   = "pilot-${(n + 1) % 16}"
      body = { kind = "whisper", to = to, text = "your berth is free ${mark}" }
    }
  }

  leave {}
}

# One who does not read is let go, and a board that ends says so.
session "look after the board" {
  connect {}

  enter {
    room = "harbour-watch"
  }

  read_slowly {
    bytes_per_second = 2000
    evicted_within   = "30s"
  }

  request "restart" {
    method = "POST"
    path   = "/restart?down=1s"
    status = 204
  }

  expect_close "goodbye" {
    code   = 1012
    within = "15s"
  }
}

session "where one may not" {
  when {
    that = n % 3 == 0

    connect {
      origin  = "http://elsewhere.example"
      refused = true
    }
  }

  when {
    that = n % 3 == 1

    connect {}

    enter {
      room   = "harbour-office"
      denied = true
      within = "2s"
    }
  }

  when {
    that = n % 3 == 2

    connect { nameless = true }

    say {
      body    = { kind = "notice", room = "harbour-watch", text = "without a name ${mark}" }
      refused = msg.kind == "refused" && msg.what == "notice"
    }
  }
}

crew "pilots" {
  clients = 16
  session = session["watch a lock"]
  name    = "pilot-${n}"

  reconnect {
    first    = "500ms"
    catch_up = true
  }
}

crew "strangers" {
  clients = 12
  session = session["where one may not"]
  name    = "stranger-${n}"
}

tide {
  flood "100%" { over = "2s" }
  slack { lasts = "20s" }
  ebb { over = "2s" }
}
