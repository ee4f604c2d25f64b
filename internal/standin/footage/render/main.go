// Command render draws the scenes' clips with ffmpeg. It is run when a scene
// changes; its output is part of the source.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"duskyharbor/internal/standin/footage"
)

func main() {
	dir := "internal/standin/footage/clips"
	for _, s := range []footage.Scene{footage.Slipway, footage.Berth1} {
		for _, walk := range []bool{false, true} {
			for _, sub := range []bool{false, true} {
				if err := render(s, walk, sub, filepath.Join(dir, s.ClipName(walk, sub))); err != nil {
					fmt.Fprintln(os.Stderr, "render:", err)
					os.Exit(1)
				}
			}
		}
	}
}

func render(s footage.Scene, walk, sub bool, path string) error {
	w, h := footage.Size(sub)
	crf := "26"
	cmd := exec.Command("ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgba", "-s", fmt.Sprintf("%dx%d", w, h),
		"-r", fmt.Sprint(footage.FPS), "-i", "-", "-c:v", "libx264", "-profile:v", "main", "-pix_fmt", "yuv420p", "-crf", crf,
		"-g", fmt.Sprint(footage.FPS), "-keyint_min", fmt.Sprint(footage.FPS), "-sc_threshold", "0", "-bf", "0",
		"-x264-params", "repeat-headers=1:slices=1", "-f", "h264", path)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	frames := int(footage.Length.Seconds()) * footage.FPS
	for i := range frames {
		t := time.Duration(i) * time.Second / footage.FPS
		if _, err := in.Write(s.Draw(walk, t, w, h).Pix); err != nil {
			return err
		}
	}
	if err := in.Close(); err != nil {
		return err
	}
	return cmd.Wait()
}
