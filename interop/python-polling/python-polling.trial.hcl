import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "python-polling" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  polling  = "http://127.0.0.1:${var.port}/poll?id=${name}"
  post     = "/say?id=${name}"
  post_end = true
  dialect  = "lists"
}

dialect "lists" {
  each = msg

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
