// Command render draws the scenes' clips with ffmpeg, those that aren't there; it is run when a scene
// changes, whose clips are taken away before. Its output is part of the source.
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
	for _, s := range footage.All() {
		for _, night := range []bool{false, true} {
			s.Night = night
			for _, walk := range []bool{false, true} {
				for _, c := range footage.Codings(s) {
					path := filepath.Join(dir, s.ClipName(walk, c))
					if _, err := os.Stat(path); err == nil {
						continue
					}
					if err := render(s, walk, c, path); err != nil {
						fmt.Fprintln(os.Stderr, "render:", err)
						os.Exit(1)
					}
				}
			}
		}
	}
}

func render(s footage.Scene, walk bool, c footage.Coding, path string) error {
	w, h := footage.Size(c.Sub)
	args := []string{"-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgba", "-s", fmt.Sprintf("%dx%d", w, h),
		"-r", fmt.Sprint(c.Rate()), "-i", "-", "-pix_fmt", "yuv420p", "-g", fmt.Sprint(c.Group()),
		"-keyint_min", fmt.Sprint(c.Group()), "-sc_threshold", "0", "-bf", "0"}
	if c.Codec == "H265" {
		args = append(args, "-c:v", "libx265", "-crf", "31", "-x265-params",
			fmt.Sprintf("repeat-headers=1:slices=1:open-gop=0:log-level=error:keyint=%d:min-keyint=%[1]d:scenecut=0:bframes=0:info=0", c.Group()), "-f", "hevc", path)
	} else {
		args = append(args, "-c:v", "libx264", "-profile:v", "main", "-crf", "28", "-x264-params", "repeat-headers=1:slices=1", "-f", "h264", path)
	}
	cmd := exec.Command("ffmpeg", args...)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	frames := int(footage.Length.Seconds()) * c.Rate()
	for i := range frames {
		t := time.Duration(i) * time.Second / time.Duration(c.Rate())
		if _, err := in.Write(s.Draw(walk, t, w, h).Pix); err != nil {
			return err
		}
	}
	if err := in.Close(); err != nil {
		return err
	}
	return cmd.Wait()
}
