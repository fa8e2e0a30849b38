import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "node-ws" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
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
    pause { lasts = "4s" } # until all are there, so that the server's count is ours
    repeat {
      every = "1500ms"
      times = 3
      say { body = { do = "post", room = room, text = "berth ${n} ${mark}" } }
    }
    pause { lasts = "1m" }
  }
}
