-- Edits a manifest as a person would: makes a slip, sees it, takes the fix, completes a name, looks at what is known, and saves.
-- Arguments: the program, the manifest. Prints what was seen, a line each.

local program, manifest = arg[1], arg[2]

local function fail(what)
  io.stdout:write("failed: " .. what .. "\n")
  os.exit(1)
end

local function wait_for(what, is_there)
  if not vim.wait(20000, is_there, 20) then
    fail(what)
  end
end

local function say(what)
  io.stdout:write(what .. "\n")
end

vim.cmd("edit " .. vim.fn.fnameescape(manifest))
local client = vim.lsp.start_client({
  name = "bibliotax",
  cmd = { program, "language-server" },
  root_dir = vim.fn.fnamemodify(manifest, ":h"),
})
vim.lsp.buf_attach_client(0, client)
wait_for("the server starts", function()
  return vim.lsp.get_client_by_id(client) and vim.lsp.get_client_by_id(client).initialized
end)

local function line_of(text)
  return vim.fn.search("\\V" .. text, "nw") - 1
end

local function params_at(line, character)
  return { textDocument = vim.lsp.util.make_text_document_params(), position = { line = line, character = character } }
end

local function ask(method, params)
  local answers = vim.lsp.buf_request_sync(0, method, params, 20000)
  local answer = answers and answers[client]
  return answer and answer.result
end

-- A slip.
local needs = line_of("[needs]")
vim.api.nvim_buf_set_lines(0, needs + 1, needs + 1, false, { "dew-point = “1”" })
wait_for("a diagnostic", function()
  return #vim.diagnostic.get(0) > 0
end)
local diagnostic = vim.diagnostic.get(0)[1]
say("diagnostic: " .. diagnostic.lnum - needs .. " " .. diagnostic.source .. " " .. diagnostic.message:match("[^:\n]*"))

-- Its fix.
local range = { start = { line = needs + 1, character = 0 }, ["end"] = { line = needs + 1, character = 0 } }
local actions = ask("textDocument/codeAction", {
  textDocument = vim.lsp.util.make_text_document_params(),
  range = range,
  context = { diagnostics = {} },
})
vim.lsp.util.apply_workspace_edit(actions[1].edit, "utf-16")
say("fixed: " .. vim.api.nvim_buf_get_lines(0, needs + 1, needs + 2, false)[1])
wait_for("no diagnostic", function()
  return #vim.diagnostic.get(0) == 0
end)

-- A name. The registries are known once a run in the background is over.
vim.api.nvim_buf_set_lines(0, needs + 2, needs + 2, false, { "rai" })
local found
wait_for("a package", function()
  local list = ask("textDocument/completion", params_at(needs + 2, 3))
  found = list and list.items[1]
  return found ~= nil and found.label == "rain-ledger"
end)
vim.lsp.util.apply_text_edits({ found.textEdit }, 0, "utf-16")
say("completed: " .. vim.api.nvim_buf_get_lines(0, needs + 2, needs + 3, false)[1])

-- What is known of it.
local hover = ask("textDocument/hover", params_at(needs + 2, 3))
say("hover: " .. hover.contents.value:match("[^\n]*"))

vim.cmd("write")
say("saved")
vim.lsp.stop_client(client)
wait_for("the server ends", function()
  return vim.lsp.client_is_stopped(client)
end)
vim.cmd("qall!")
