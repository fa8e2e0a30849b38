# Taken in by the trials of servers that say what is wanted in a field "do".

dialect "theirs" {
  each = msg # of servers that send lists; an object is a message by itself

  name {
    send      = { do = "hello", name = name }
    confirmed = msg.did == "hello"
  }

  enter {
    send      = { do = "join", room = room }
    confirmed = msg.did == "join" && msg.room == room
  }

  heard {
    when    = msg.did == "post"
    room    = msg.room
    payload = msg.text
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
  repeat {
    every = "500ms"
    times = 6
    say { body = { do = "post", room = room, text = "berth ${n} ${mark}" } }
  }
  pause { lasts = "1m" }
}
