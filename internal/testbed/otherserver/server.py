"""An RTSP server that isn't ours, for tests: GStreamer's, on 127.0.0.1.

usage: server.py PORT USER PASSWORD
It serves /h264, /h265, /jpeg and /both (video, then sound in G.711 mu-law), each behind Digest,
and prints "ready" once it does.
"""

import sys

import gi

gi.require_version("Gst", "1.0")
gi.require_version("GstRtsp", "1.0")
gi.require_version("GstRtspServer", "1.0")
from gi.repository import GLib, Gst, GstRtsp, GstRtspServer  # noqa: E402

port, user, password = sys.argv[1:4]
Gst.init(None)

source = "videotestsrc is-live=true pattern=ball ! video/x-raw,format=I420,width=640,height=360,framerate=15/1"
h264 = source + " ! x264enc tune=zerolatency bitrate=400 key-int-max=15 bframes=0 ! rtph264pay name=pay0 pt=96 config-interval=-1"
streams = {
    "/h264": h264,
    "/h265": source + " ! x265enc tune=zerolatency speed-preset=ultrafast bitrate=400 key-int-max=15 ! rtph265pay name=pay0 pt=96 config-interval=-1",
    "/jpeg": source + " ! jpegenc quality=60 ! rtpjpegpay name=pay0 pt=26",
    # Who plays the picture alone leaves the sound unlinked, which stops the whole now and then: it goes nowhere besides.
    "/both": h264
    + " audiotestsrc is-live=true ! audio/x-raw,rate=8000,channels=1 ! mulawenc ! tee name=sound ! queue"
    + " ! fakesink sync=false async=false  sound. ! rtppcmupay name=pay1 pt=0",
}

server = GstRtspServer.RTSPServer()
server.set_address("127.0.0.1")
server.set_service(port)
auth = GstRtspServer.RTSPAuth()
auth.set_supported_methods(GstRtsp.RTSPAuthMethod.DIGEST)
token = GstRtspServer.RTSPToken()
token.set_string(GstRtspServer.RTSP_TOKEN_MEDIA_FACTORY_ROLE, user)
auth.add_digest(user, password, token)
server.set_auth(auth)
for path, pipeline in streams.items():
    factory = GstRtspServer.RTSPMediaFactory()
    factory.set_launch("( " + pipeline + " )")
    permissions = GstRtspServer.RTSPPermissions()
    permissions.add_role(user)
    permissions.add_permission_for_role(user, GstRtspServer.RTSP_PERM_MEDIA_FACTORY_ACCESS, True)
    permissions.add_permission_for_role(user, GstRtspServer.RTSP_PERM_MEDIA_FACTORY_CONSTRUCT, True)
    factory.set_permissions(permissions)
    server.get_mount_points().add_factory(path, factory)
server.attach(None)
print("ready", flush=True)
GLib.MainLoop().run()
