import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "python-array" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/board"
  dialect   = "theirs"
}

dialect "theirs" {
  name {
    send      = ["hello", name]
    confirmed = msg[0] == "hello"
  }

  enter {
    send      = ["join", room]
    confirmed = msg[0] == "joined" && msg[1] == room
  }

  presence {
    when    = msg[0] == "joined"
    room    = msg[1]
    members = msg[2]
  }

  heard {
    when    = msg[0] == "post"
    room    = msg[1]
    payload = msg[3]
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
      say { body = ["post", room, "berth ${n} ${mark}"] }
    }
    pause { lasts = "1m" }
  }
}
