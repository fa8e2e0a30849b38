import "../returning.hcl" {}


trial "go-envelope" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/board"
  dialect   = "theirs"
}

dialect "theirs" {
  enter {
    send      = { event = "join", data = { room = room } }
    confirmed = msg.event == "joined" && msg.data.room == room
  }

  heard {
    when    = msg.event == "post"
    room    = msg.data.room
    payload = msg.data.text
  }
}

session "watch" {
  connect { subprotocol = "board.v1" }
  enter { room = "lock-${n % 3}" }
  when {
    that = var.silent
    fall_silent { evicted_within = "8s" }
  }
  otherwise {
    pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
    repeat {
      every = "500ms"
      times = 20
      say { body = { event = "post", data = { text = "berth ${n} ${mark}" } } }
    }
    pause { lasts = "1m" }
  }
}
