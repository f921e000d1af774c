modules_enabled = {}
ssl = { certificate = "/etc/nginx/a.pem"; key = "/etc/nginx/a.key"; password = "Wreck-Buoy-77!Xq" }
VirtualHost "c.tarnholm.example"
component_secret = "Wreck-Buoy-77!Xq"
