//go:build js && wasm

// Nurvik-wasm is the core for the workbench page of the console: it runs inside
// the browser and sends nothing.
package main

import (
	"encoding/json"
	"errors"
	"syscall/js"
	"time"

	"nurvik/internal/workbench"
)

func main() {
	// nurvikSort(files: {name, bytes}[], passwords: string[]): string, the result or {"failure"} as JSON.
	export("nurvikSort", func(inputs []workbench.Input, passwords []string, _ js.Value) (any, error) {
		return workbench.Sort(inputs, passwords, time.Now())
	})
	// nurvikCompare compares the first of the files with the second.
	export("nurvikCompare", func(inputs []workbench.Input, passwords []string, _ js.Value) (any, error) {
		if len(inputs) != 2 {
			return nil, errors.New("two files can be compared")
		}
		return workbench.Compare(inputs[0], inputs[1], passwords)
	})
	// nurvikPack takes a wish as JSON behind files and passwords.
	export("nurvikPack", func(inputs []workbench.Input, passwords []string, wish js.Value) (any, error) {
		var w workbench.Wish
		if err := json.Unmarshal([]byte(wish.String()), &w); err != nil {
			return nil, err
		}
		return workbench.Pack(inputs, passwords, w, time.Now())
	})
	select {} // the page calls as long as it is open
}

// export makes a function of files and passwords, and one more value, that the page can call.
func export(name string, run func(inputs []workbench.Input, passwords []string, more js.Value) (any, error)) {
	js.Global().Set(name, js.FuncOf(func(_ js.Value, args []js.Value) any {
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
		more := js.Undefined()
		if len(args) > 2 {
			more = args[2]
		}
		result, err := run(inputs, passwords, more)
		if err != nil {
			return encoded(map[string]string{"failure": err.Error()})
		}
		return encoded(result)
	}))
}

func encoded(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		return `{"failure":"the result cannot be written"}`
	}
	return string(text)
}
