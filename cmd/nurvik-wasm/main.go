//go:build js && wasm

// Nurvik-wasm is the core for the workbench page of the console: it runs inside
// the browser and sends nothing.
package main

import (
	"encoding/json"
	"syscall/js"
	"time"

	"nurvik/internal/workbench"
)

func main() {
	// nurvikSort(files: {name, bytes}[], passwords: string[]): string, the result or {"failure"} as JSON.
	js.Global().Set("nurvikSort", js.FuncOf(func(_ js.Value, args []js.Value) any {
		var inputs []workbench.Input
		for i := range args[0].Length() {
			file := args[0].Index(i)
			data := make([]byte, file.Get("bytes").Length())
			js.CopyBytesToGo(data, file.Get("bytes"))
			inputs = append(inputs, workbench.Input{Name: file.Get("name").String(), Data: data})
		}
		var passwords []string
		for i := range args[1].Length() {
			passwords = append(passwords, args[1].Index(i).String())
		}
		result, err := workbench.Sort(inputs, passwords, time.Now())
		if err != nil {
			return encoded(map[string]string{"failure": err.Error()})
		}
		return encoded(result)
	}))
	select {} // the page calls as long as it is open
}

func encoded(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		return `{"failure":"the result cannot be written"}`
	}
	return string(text)
}
