import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "node-strings" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  dialect   = "theirs"
}

dialect "theirs" {
  enter {
    send      = { type = "join", data = "{\"room\":${json(room)}}" }
    confirmed = msg.type == "joined" && field(msg.data, "room") == room
  }

  heard {
    when    = msg.type == "post"
    room    = field(msg.data, "room")
    payload = field(msg.data, "text")
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
      say { body = { type = "post", data = "{\"text\":\"berth ${n} ${mark}\"}" } }
    }
    pause { lasts = "1m" }
  }
}
