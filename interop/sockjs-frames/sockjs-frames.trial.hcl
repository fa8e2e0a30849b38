import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "sockjs-frames" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  dialect   = "theirs"
}

dialect "theirs" {
  json = substr(text, 1) # behind the letter of a frame: a["text", "text"]
  each = msg

  name { after = text == "o" }

  enter {
    send      = ["{\"do\":\"join\",\"room\":\"${room}\"}"]
    confirmed = msg.did == "join" && msg.room == room
  }

  heard {
    when    = msg.did == "post"
    room    = msg.room
    payload = msg.text
  }

  beat { when = text == "h" }
}

session "watch" {
  connect { path = "/board/${n}/${crew}/websocket" }
  enter { room = "lock-${n % 3}" }
  pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
  repeat {
    every = "500ms"
    times = 6
    say { body = ["{\"do\":\"post\",\"text\":\"berth ${n} ${mark}\"}"] }
  }
  pause { lasts = "1m" }
}
