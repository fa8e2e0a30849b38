trial "node-ws" {
  prompt = "3s"
  grace  = "5s"
}

variable "silent" { default = false }

target "server" {
  websocket = "ws://127.0.0.1:7500/"
  dialect   = "theirs"
}

dialect "theirs" {
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
  when {
    that = var.silent
    fall_silent { evicted_within = "8s" }
  }
  otherwise {
    pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
    repeat {
      every = "500ms"
      times = 6
      say { body = { do = "post", room = room, text = "berth ${n} ${mark}" } }
    }
    pause { lasts = "1m" }
  }
}

crew "pilots" {
  clients = 60
  session = session.watch
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "6s" }
  ebb { over = "1s" }
}

final_check "the server counts the same" {
  request { path = "/truth" }
  holds = msg.received == messages.sent && msg.written == ledger.delivered + ledger.late + ledger.allowed
}
