import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "go-hub" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/hub"
  dialect   = "theirs"
}

dialect "theirs" {
  split = "\n" # what waits for a client comes in one frame

  enter {}

  heard {
    when    = msg.from != ""
    room    = msg.room
    payload = msg.text
  }
}

session "watch" {
  connect { path = "/hub?name=${name}&room=lock-${n % 3}" }
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
      say { body = "berth ${n} ${mark}" }
    }
    pause { lasts = "1m" }
  }
}
