# Taken in by the trials of servers that say what is wanted in a field "do".

variable "rooms" { default = 3 }

variable "every" { default = "500ms" }

variable "times" { default = 6 }

variable "settle" { default = "1500ms" }

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

  goodbye {
    send = { do = "bye" }
  }

  heard {
    when    = msg.did == "post"
    room    = msg.room
    payload = msg.text
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % var.rooms}" }
  pause { lasts = var.settle } # until all are there, so that the server's count is ours
  repeat {
    every = var.every
    times = var.times
    say { body = { do = "post", room = room, text = "berth ${n} ${mark}" } }
  }
  pause { lasts = "1m" }
}
