import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "django-groups" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  nodes   = ["ws://127.0.0.1:${var.port}/", "ws://127.0.0.1:${var.second_port}/"]
  dialect = "theirs"
}

dialect "theirs" {
  enter { confirmed = msg.type == "moored" && msg.room == room } # by the path

  heard {
    when    = msg.type == "message"
    payload = msg.message
  }
}

session "watch" {
  connect { path = "/berth/lock-${n % 3}/" }
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
      say { body = { message = "berth ${n} ${mark}" } }
    }
    pause { lasts = "1m" }
  }
}
